import type { Command } from '@commander-js/extra-typings';
import { LintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';
import { standingThen } from '../membership/index.js';
import { type Comparison, compare, madeUpFacts, whose } from '../rehearsal/index.js';
import { type Anchor, type Held, Standing } from '../standing/index.js';
import { readDay } from './audit.js';
import { readConfig, type Sources } from './config.js';
import { insistOnOwn } from './copy.js';
import { gridFor, markdown } from './grid.js';
import { findPerson, findTenant, type Tenant, withDatabase } from './look.js';
import { formatOption, withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

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

function written({ tenant, names, permissions, alike, records }: Comparison, format: 'text' | 'md', around: Surroundings): string {
  const table = (head: readonly string[], rows: readonly string[][]) => (format === 'md' ? markdown(head, rows) : gridFor(around, head, rows));
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

/** `sela@2026-05-01`; an address has no day behind its last @. */
function personAndDay(text: string): { readonly person: string; readonly day: string | undefined } {
  const [, person = text, day] = /^(.+)@(\d{4}-\d\d-\d\d(?:T\S+)?)$/.exec(text) ?? [];
  return { person, day };
}

/** A person; a made-up holder of a role, `role:keeper`; or a person as the record of changes has them on a day, `sela@2026-05-01`. */
export async function sideOf(tenant: Tenant, text: string): Promise<{ readonly name: string; readonly standing: Standing<any> }> {
  const { charter, db } = tenant.lintel;
  const [, role] = /^role:(.+)$/.exec(text) ?? [];
  const here = await tenant.facts();
  if (role !== undefined) {
    const facts = madeUpFacts(charter, here, [{ role, anchor: { on: 'tenant' } }]);
    return { name: `${charter.role(role).label} (role)`, standing: new Standing(charter, facts) };
  }
  const { person, day } = personAndDay(text);
  const id = await findPerson(tenant, person);
  const name = tenant.members.find((one) => one.id === id)?.name ?? person;
  if (day === undefined) return { name, standing: await tenant.standingOf(id) };
  insistOnOwn(tenant.lintel);
  const then = await standingThen(db as never, charter, tenant.id, id, readDay(day));
  // The record holds ids; what units and groups are called is what they are called today.
  const { units, groups } = await namesIn(tenant);
  const called = <H extends Held<{ readonly anchor: Anchor }>>(held: H): H => ({
    ...held,
    anchor: held.anchor.on === 'unit' ? { ...held.anchor, name: units.get(held.anchor.unitId) ?? held.anchor.unitId } : held.anchor,
    ...(held.through && { through: { ...held.through, name: (held.through.on === 'unit' ? units : groups).get(held.through.id) ?? held.through.id } }),
  });
  const { assignments, direct = [], ...facts } = then.facts;
  const told = { ...facts, tenant: here, assignments: assignments.map(called), direct: direct.map(called) };
  return { name: `${name} on ${day}`, standing: new Standing(then.charter, told) };
}

/** What units and groups are called. */
async function namesIn(tenant: Tenant): Promise<Readonly<Record<'units' | 'groups', ReadonlyMap<string, string>>>> {
  const { tenant: arranged } = await tenant.onlooker();
  const names = (all: readonly { readonly id: string; readonly name: string }[]) => new Map(all.map(({ id, name }) => [id, name]));
  return { units: names(await arranged.units()), groups: names(await arranged.groups()) };
}

async function compareCommand(people: readonly string[], options: CompareOptions, around: Surroundings): Promise<number> {
  if (people.length < 2) throw new LintelError('which-people', 'compare takes two or more: people by id, address or name, role:NAME, PERSON@DAY', {});
  const config = await readConfig(options, around.cwd);
  const action = options.on === undefined ? undefined : actionOf(config.charter, options.on);
  return withDatabase(config, async (lintel) => {
    const named = people.find((one) => !one.startsWith('role:'));
    const tenant = await findTenant(lintel, options.tenant, named && personAndDay(named).person);
    const sides = [];
    for (const one of people) sides.push(await sideOf(tenant, one));
    const compared = await compare(sides, action === undefined ? undefined : { db: await lintel.recordsOf(tenant.id), action, some: Number(options.some) });
    around.out(options.format === 'json' ? JSON.stringify(compared, null, 2) : written(compared, options.format, around));
    return EXIT.yes;
  });
}

export function addCompareCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('compare')
      .description('People side by side: what they hold where they differ, and on one kind what all of them reach and what only some do.'),
  )
    .argument('<people...>', 'two or more, by id, address or name; role:NAME for a holder of a role; PERSON@2026-05-01 for what they held on a day')
    .option('--on <action>', 'a kind, or an action on one: hive, hive.update')
    .option('--some <number>', 'how many records of each part are named', '5')
    .addOption(formatOption())
    .addHelpText(
      'after',
      '\nExample:\n  lintel compare tobias sela --on hive.update\n  lintel compare role:keeper role:warden --tenant alderbrook\n  lintel compare sela sela@2026-05-01\n\nExit codes: 0 answered, 2 not answered',
    )
    .action(async (people, options) => {
      answered(await compareCommand(people, options, around));
    });
}
