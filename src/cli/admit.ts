import type { Command } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { didYouMean, LintelError } from '../base/index.js';
import { readAdmissionRules } from '../http/index.js';
import { printProposal, proposalMarkdown } from '../rehearsal/index.js';
import type { AdmissionRule, Connection, ServerStanding, TriedArrival } from '../server/index.js';
import { type Anchor, anchorWords } from '../standing/index.js';
import { readConfig, type Sources } from './config.js';
import { ofOwn } from './copy.js';
import { answer } from './grid.js';
import { actorOf, findTenant, withDatabase } from './look.js';
import { formatOption, withSources } from './options.js';
import { textOf } from './people.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface AdmitOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly as?: string | undefined;
  readonly connection?: string | undefined;
  readonly rules?: string | undefined;
  readonly format: 'text' | 'json' | 'md';
}

async function jsonOf(file: string, around: Surroundings): Promise<unknown> {
  const text = await textOf(file, around);
  try {
    return JSON.parse(text);
  } catch (cause) {
    throw new LintelError('bad-file', `${file} is no JSON: ${cause instanceof Error ? cause.message : String(cause)}`, {}, { cause });
  }
}

async function connectionNamed(standing: ServerStanding, named: string | undefined): Promise<Connection> {
  const all = await standing.connections.list();
  const [only] = all;
  if (named === undefined && only && all.length === 1) return only;
  const found = all.find(({ id, name }) => id === named || name === named);
  if (found) return found;
  const there = all.map(({ id }) => id);
  const which = there.length === 0 ? 'there is none' : `there ${there.length === 1 ? 'is' : 'are'} ${there.join(', ')}`;
  if (named === undefined) throw new LintelError('not-found', `Say by which connection they come: --connection; ${which}.`, {});
  throw new LintelError('not-found', `no connection "${named}"${didYouMean(named, there) || `; ${which}`}`, {});
}

const claimOf = (claim: string | readonly string[]) => [claim].flat().join('.');

/** A rule in a line: on what it turns. */
function turnsOn(rule: AdmissionRule, values: readonly string[]): string {
  if ('says' in rule) return `${rule.says} is what ${claimOf(rule.by)} says: ${values.join(', ')}`;
  if ('requires' in rule) return `${claimOf(rule.requires)} is required`;
  return rule.when === undefined ? 'for everybody' : `${claimOf(rule.when)} is ${values.join(', ')}`;
}

async function givenRows({ arrived: { admission } }: TriedArrival, rules: readonly AdmissionRule[], standing: ServerStanding): Promise<string[][]> {
  const { roles, groups, units, permissions, attributes } = admission.gives;
  const called = new Map([...(await standing.tenant.units()), ...(await standing.tenant.groups())].map(({ id, name }) => [id, name]));
  const name = (id: string) => called.get(id) ?? id;
  const at = (anchor: Anchor) => (anchor.on === 'unit' ? name(anchor.unitId) : (anchorWords(anchor) ?? 'the whole organisation'));
  return [
    ...admission.spoke.map(({ rule, values }) => [`rule ${rule + 1}`, turnsOn(rules[rule] as AdmissionRule, values)]),
    ...roles.map(({ role, anchor }) => ['role', `${standing.charter.role(role).label}, for ${at(anchor)}`]),
    ...permissions.map(({ permission, reach, anchor }) => ['permission', `${standing.charter.permission(permission).label} (${reach}), for ${at(anchor)}`]),
    ...groups.map((id) => ['group', name(id)]),
    ...units.map((id) => ['placed', name(id)]),
    ...Object.entries(attributes).map(([name, value]) => ['attribute', `${name}: ${[value].flat().join(', ')}`]),
    ...admission.unknown.map(({ claim, values }) => ['not known', `${claim}: ${values.join(', ')}; that gives nothing`]),
  ];
}

async function admitCommand(file: string, options: AdmitOptions, around: Surroundings): Promise<number> {
  const claims = await jsonOf(file, around);
  if (typeof claims !== 'object' || claims === null || Array.isArray(claims))
    throw new LintelError('bad-file', `${file} holds no claims; write them as one object: { "sub": "…", "groups": ["…"] }`, {});
  const rules = options.rules === undefined ? undefined : readAdmissionRules(await jsonOf(options.rules, around));
  return withDatabase(ofOwn(await readConfig(options, around.cwd)), async (lintel) => {
    const actor = await actorOf(await findTenant(lintel, options.tenant), options);
    const connection = await connectionNamed(actor, options.connection);
    const tried = await actor.connections.try({ connection: connection.id, claims: claims as Record<string, unknown>, ...(rules && { rules }) });
    const { arrived, proposal } = tried;
    const isRefused = arrived.outcome === 'refused';
    if (options.format === 'json') {
      around.out(JSON.stringify(tried, null, 2));
      return isRefused ? EXIT.refused : EXIT.yes;
    }
    around.out(
      `${isRefused ? 'Would be refused' : 'Would come in'} by ${connection.name}.${arrived.said ? ` ${arrived.said.words}  (${arrived.said.code})` : ''}`,
    );
    const rows = await givenRows(tried, rules ?? connection.rules, actor);
    if (rows.length > 0) around.out(answer(around, options.format, undefined, ['', 'what the rules make of it'], rows));
    const told = { ...proposal, problems: [] };
    if (proposal.people > 0 || !isRefused) around.out(options.format === 'md' ? proposalMarkdown(told) : printProposal(told, pc.createColors(around.colours)));
    return isRefused ? EXIT.refused : EXIT.yes;
  });
}

/** `admit`: what would become of somebody who comes with these claims. */
export function addAdmitCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('admit')
      .description('Tries what a provider’s claims would give: which rules spoke, what comes, what goes, on how many records. Nothing is changed.'),
  )
    .argument('<claims>', 'a file with the claims as a JSON object, as a provider would say them')
    .option('--connection <connection>', 'by which they come, by id or name; needed where there are several')
    .option('--rules <file>', 'other rules than those that are kept, as JSON')
    .option('--as <person>', 'in whose name: somebody with full control')
    .addOption(formatOption())
    .addHelpText(
      'after',
      '\nExample:\n  lintel admit claims.json --as maren --tenant alderbrook\n\n  { "sub": "c-1017", "name": "Nora Fern", "associations": ["alderbrook"], "groups": ["site-wardens"], "site": "Heath edge" }\n\nExit codes: 0 they would come in, 1 they would be refused, 2 not answered',
    )
    .action(async (file, options) => {
      answered(await admitCommand(file as string, options as AdmitOptions, around));
    });
}
