import { resolve } from 'node:path';
import type { Command } from '@commander-js/extra-typings';
import { didYouMean, LintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';
import { type AccessChange, accessChanges, alike, type Changing, madeUpFacts } from '../rehearsal/index.js';
import type { Choice } from '../scoping/index.js';
import { createLintel, type Lintel } from '../server/index.js';
import { everythingMet, Standing } from '../standing/index.js';
import type { Database } from '../store/index.js';
import { charterAt } from './commit.js';
import { openUrl, readCharterFile, readConfig, type Sources } from './config.js';
import { gridFor, markdown } from './grid.js';
import { findTenant, withDatabase } from './look.js';
import { formatOption, withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface ChangesOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly declared: readonly string[];
  readonly roles?: true | undefined;
  readonly earlier?: string | undefined;
  readonly commit?: string | undefined;
  readonly format: 'text' | 'json' | 'md';
}

const NOWHERE = { id: '', name: '', open: true, contact: null, features: [] };

/** Roles of two charters, as somebody made up would hold them. */
function rolesOf(before: Charter<any>, after: Charter<any>): Changing[] {
  const as = (charter: Charter<any>, role: string) => {
    if (!Object.hasOwn(charter.data.roles, role)) return undefined;
    return new Standing(charter, madeUpFacts(charter, NOWHERE, [{ role, anchor: { on: 'tenant' } }]));
  };
  const names = new Set([...Object.keys(before.data.roles), ...Object.keys(after.data.roles)]);
  return [...names].map((role) => ({
    name: `role ${(after.data.roles[role] ?? before.data.roles[role])?.label ?? role}`,
    before: as(before, role),
    after: as(after, role),
  }));
}

/** Everybody in a tenant, and a visitor, under two charters. @param then the database as it was, where that is another. */
export async function peopleOf(lintel: Lintel, before: Charter<any>, wanted: string | undefined, then: Database = lintel.db) {
  const tenant = await findTenant(lintel, wanted);
  const earlier = createLintel({ charter: before, db: then });
  const fulfilled = [...everythingMet(before), ...everythingMet(lintel.charter)];
  const all: Changing[] = [];
  const were =
    then === lintel.db
      ? []
      : (await findTenant(earlier as unknown as Lintel, tenant.id)).members.filter(({ id }) => !tenant.members.some((one) => one.id === id));
  for (const { id, name } of [...tenant.members, ...were, { id: undefined, name: 'a visitor' }]) {
    const entry = { tenant: tenant.id, fulfilled, ...(id !== undefined && { user: id }) };
    all.push({ name, before: await earlier.enter(entry), after: await lintel.enter(entry) });
  }
  return { tenant: tenant.id, all };
}

const ways = (of: readonly string[]) => (of.length === 0 ? '–' : of.join(', '));

/** `+ Amber hive, Clover hive, …` */
function named(sign: string, count: number, records: readonly Choice[] = []): string[] {
  return records.length === 0 ? [] : [`${sign} ${records.map(({ id, label }) => label ?? id).join(', ')}${count > records.length ? ', …' : ''}`];
}

/** Those to whom the same happens stand in one row. */
function rowsOf(changes: readonly AccessChange[]): string[][] {
  const rows = new Map<string, AccessChange[]>();
  for (const change of changes) {
    const key = alike(change);
    rows.set(key, [...(rows.get(key) ?? []), change]);
  }
  return [...rows.values()].map((same) => {
    const { permission, was, becomes, change, records, rule, some } = same[0] as AccessChange;
    const more = same.length - 3;
    const extent = rule ? `${ways(was)}: ${rule.was} → ${rule.becomes}` : `${ways(was)} → ${ways(becomes)}`;
    const examples = records ? [...named('+', records.more, some?.more), ...named('−', records.fewer, some?.fewer)] : [];
    const names = same.slice(0, 3).map(({ name }) => name);
    return [
      `${names.join(', ')}${more > 0 ? ` and ${more} more` : ''}`,
      permission,
      extent,
      change,
      records ? `+${records.more} −${records.fewer}` : '',
      examples.join('; '),
    ];
  });
}

async function changesCommand(old: string | undefined, options: ChangesOptions, around: Surroundings): Promise<number> {
  const here = await readConfig(options, around.cwd);
  const [from, to] = options.commit?.split('..') ?? [];
  const config = to ? { ...here, charter: await charterAt(to, options, around.cwd) } : here;
  const { charter } = config;
  if (old === undefined && !from && options.earlier === undefined)
    throw new LintelError(
      'which-charter',
      'Compare with what? Give the charter as it was, --commit with when it was so, or --earlier with a database as it was.',
      {},
    );
  if (old !== undefined && from) throw new LintelError('which-charter', 'Give the charter as it was, or --commit, not both.', {});
  const before = from ? await charterAt(from, options, around.cwd) : old === undefined ? charter : await readCharterFile(resolve(around.cwd, old));
  const known = new Set([...before.permissions.keys(), ...charter.permissions.keys()]);
  const foreign = options.declared.find((name) => !known.has(name));
  if (foreign !== undefined)
    throw new LintelError('unknown-action', `--declared names no action "${foreign}"${didYouMean(foreign, known)}`, { action: foreign });
  const changes =
    options.roles || !config.database
      ? await accessChanges(charter, rolesOf(before, charter))
      : await withDatabase(config, async (lintel) => {
          const compare = async (then?: Lintel) => {
            const { tenant, all } = await peopleOf(lintel, before, options.tenant, then?.db);
            return accessChanges(charter, all, { db: await lintel.recordsOf(tenant), tenant });
          };
          const { earlier } = options;
          return earlier === undefined ? compare() : withDatabase({ ...config, database: () => openUrl(earlier) }, compare);
        });
  const undeclared = changes.filter(({ change, permission }) => change.startsWith('grows') && !options.declared.includes(permission));
  const head = ['who', 'may', 'how far', 'change', 'records', 'such as'];
  const verdict =
    undeclared.length === 0
      ? 'No access grew that was not declared.'
      : `Access grew that was not declared: ${[...new Set(undeclared.map((c) => c.permission))].join(', ')}`;
  const rows = rowsOf(changes);
  const table = options.format === 'md' ? markdown(head, rows) : gridFor(around, head, rows);
  const text = changes.length === 0 ? 'Nobody’s access is another than before.' : `${table}\n\n${verdict}`;
  around.out(options.format === 'json' ? JSON.stringify({ changes, undeclared: undeclared.length }, null, 2) : text);
  return undeclared.length === 0 ? EXIT.yes : EXIT.refused;
}

export function addChangesCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('changes')
      .description('Compares another charter with this one: who gains and who loses access, person by person on the real records, or role by role.'),
  )
    .argument('[charter]', 'the charter as it was: JSON, or a module')
    .option('--commit <commit>', 'the charter as it was at a commit of git: main, v1.4, or v1.3..v1.4 for two')
    .option('--earlier <url>', 'a PostgreSQL as it was, such as a backup: who held what there. Records are those of today')
    .option('--roles', 'compare the roles of the two charters, without a database')
    .option('--declared <actions...>', 'actions that are meant to reach farther: all other growth fails', [] as string[])
    .addOption(formatOption())
    .addHelpText(
      'after',
      '\nExample:\n  lintel changes before.json --tenant alderbrook\n  lintel changes --commit main --tenant alderbrook --format md\n  lintel changes --earlier postgres://localhost/yesterday --tenant alderbrook\n  lintel changes before.json --roles --format md --declared hive.move\n\nExit codes: 0 nothing grew that was not declared, 1 something did, 2 not answered',
    )
    .action(async (charter, options) => {
      answered(await changesCommand(charter, options, around));
    });
}
