import type { Command } from '@commander-js/extra-typings';
import { LintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';
import { type Comparison, compare, whose } from '../rehearsal/index.js';
import { readConfig, type Sources } from './config.js';
import { grid, markdown } from './grid.js';
import { findPerson, findTenant, withDatabase } from './look.js';
import { EXIT, formatOption, type Surroundings, withSources } from './surroundings.js';

interface CompareOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly on?: string | undefined;
  readonly some: string;
  readonly format: 'text' | 'json' | 'md';
}

/** `hive` is short for reading it. */
function actionOf(charter: Charter<any>, on: string): string {
  const action = on.includes('.') ? on : `${on}.read`;
  if (!on.includes('.')) charter.kind(on);
  if (charter.permission(action).kind === undefined)
    throw new LintelError('not-a-record-action', `"${action}" is about no kind of record; give a kind, or an action on one`, {});
  return action;
}

function written({ tenant, names, permissions, alike, records }: Comparison, format: 'text' | 'md'): string {
  const table = format === 'md' ? markdown : grid;
  const parts = [format === 'md' ? `# ${names.join(', ')} in ${tenant}` : `${names.join(', ')} in ${tenant}`];
  if (records) {
    const rows = records.groups.map((group) => {
      const named = group.some.map(({ label, id }) => `${label ?? id}`).join(', ');
      return [whose(names, group), String(group.count), group.count > group.some.length ? `${named}, …` : named];
    });
    parts.push(records.action, table(['reached by', 'records', 'of them'], rows));
  }
  const differing = permissions.map(({ permission, each }) => [
    permission,
    ...each.map(({ ways, by }) => (ways.length === 0 ? '–' : `${ways.join(', ')} (${by.join('; ')})`)),
  ]);
  parts.push(differing.length === 0 ? 'They hold the same.' : table(['may', ...names], differing), `${alike} permissions reach equally far for all of them.`);
  return parts.join('\n\n');
}

async function compareCommand(people: readonly string[], options: CompareOptions, around: Surroundings): Promise<number> {
  if (people.length < 2) throw new LintelError('which-people', 'compare takes two people or more, by id, address or name', {});
  const config = await readConfig(options, around.cwd);
  const action = options.on === undefined ? undefined : actionOf(config.charter, options.on);
  return withDatabase(config, async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant, people[0]);
    const sides = [];
    for (const person of people) {
      const standing = await tenant.standingOf(await findPerson(tenant, person));
      sides.push({ name: standing.facts.me.name ?? person, standing });
    }
    const compared = await compare(sides, action === undefined ? undefined : { db: lintel.db, action, some: Number(options.some) });
    around.out(options.format === 'json' ? JSON.stringify(compared, null, 2) : written(compared, options.format));
    return EXIT.yes;
  });
}

export function addCompareCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('compare')
      .description('People side by side: what they hold where they differ, and on one kind what all of them reach and what only some do.'),
  )
    .argument('<people...>', 'two or more, by id, address or name')
    .option('--on <action>', 'a kind, or an action on one: hive, hive.update')
    .option('--some <number>', 'how many records of each part are named', '5')
    .addOption(formatOption())
    .addHelpText('after', '\nExample:\n  lintel compare tobias sela --on hive.update\n\nExit codes: 0 answered, 2 not answered')
    .action(async (people, options) => {
      answered(await compareCommand(people, options, around));
    });
}
