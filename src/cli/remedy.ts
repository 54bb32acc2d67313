import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { LintelError } from '../base/index.js';
import { printProposal } from '../rehearsal/index.js';
import type { Remedies, Remedy } from '../server/index.js';
import { type Decision, inSentence } from '../standing/index.js';
import { readConfig, type Sources } from './config.js';
import { ofOwn } from './copy.js';
import { counted } from './grid.js';
import { actorOf, findPerson, findRecord, findTenant, remediesIn, withDatabase } from './look.js';
import { withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface RemedyOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly as?: string | undefined;
  readonly carryOut?: string | undefined;
  readonly format: 'text' | 'json';
}

function lineOf({ words, opens, refused, change }: Remedy, i: number, c: ReturnType<typeof pc.createColors>): string {
  const number = `${i + 1}.`.padEnd(4);
  if (refused !== undefined) return `${c.dim(`${number}${words}`)}\n      ${c.magenta('not yours to make')}: ${refused}`;
  if (change) return `${number}${words}\n      changes the record, and nothing of what people hold`;
  const records = opens && opens.records > 0 ? `, on ${counted(opens.records, 'record')}` : '';
  return `${number}${words}\n      opens ${counted(opens?.permissions ?? 0, 'permission')}${records}`;
}

const whatOf = (label: string, { record }: Decision) => `${inSentence(label)}${record?.label ? `: ${record.label}` : ''}`;

/** What is so now. */
const printNow = (who: string, label: string, decision: Decision) =>
  `${who} ${decision.allowed ? `may ${whatOf(label, decision)} already` : `may not ${whatOf(label, decision)}`}.`;

/** What would allow it, numbered. */
function printWhat({ decision, cause, remedies }: Remedies, colours: boolean): string | undefined {
  const c = pc.createColors(colours);
  if (decision.allowed) return undefined;
  if (cause !== undefined) return `Why: ${cause}. No change of what they hold takes that away.`;
  if (remedies.length === 0) return 'Nothing that was tried would change it.';
  return ['It would be so by one of these:', '', ...remedies.map((one, i) => lineOf(one, i, c))].join('\n');
}

/** What is so now, and what would allow it. */
export const printRemedies = (who: string, label: string, found: Remedies, colours: boolean): string =>
  [printNow(who, label, found.decision), printWhat(found, colours)].filter(Boolean).join('\n');

/** One that can be carried out. @throws LintelError `no-such-remedy`. */
export function remedyNumbered({ remedies }: Remedies, number: string): Remedy {
  const chosen = remedies[Number(number) - 1];
  if (chosen && chosen.refused === undefined) return chosen;
  throw new LintelError('no-such-remedy', `${number} cannot be carried out: ${chosen?.refused ?? `there are ${remedies.length}`}`, {});
}

async function remedyCommand(person: string, action: string, record: string, options: RemedyOptions, around: Surroundings): Promise<number> {
  const read = await readConfig(options, around.cwd);
  const config = options.as === undefined && options.carryOut === undefined ? read : ofOwn(read);
  const { kind, label } = config.charter.permission(action);
  return withDatabase(config, async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant, person, { kind, record });
    const user = await findPerson(tenant, person);
    const id = kind === undefined ? record : await findRecord(tenant, kind, record);
    const who = tenant.members.find(({ id }) => id === user)?.name ?? person;
    // Whether it is so is known at once; what would change it is tried first.
    const found = await remediesIn(tenant, { as: options.as, user, action, id }, (decision) => {
      if (options.format === 'text') around.out(printNow(who, label, decision));
    });
    if (options.carryOut === undefined) {
      const text = options.format === 'json' ? JSON.stringify(found, null, 2) : printWhat(found, around.colours);
      if (text !== undefined) around.out(text);
      return found.decision.allowed ? EXIT.yes : EXIT.refused;
    }
    const actor = await actorOf(tenant, options);
    const chosen = remedyNumbered(found, options.carryOut);
    if (!chosen.proposal)
      throw new LintelError('no-such-remedy', `${options.carryOut} cannot be carried out: that one changes the record, in the application`, {});
    around.out(printProposal(chosen.proposal, pc.createColors(around.colours)));
    await actor.carryOut(chosen.proposal, chosen.words);
    const now = await (await tenant.standingOf(user)).decideById(action, id);
    around.out(`Done: ${chosen.words}. ${who} ${now.allowed ? 'may' : 'still may not'} ${inSentence(label)} now.`);
    return now.allowed ? EXIT.yes : EXIT.refused;
  });
}

export function addRemedyCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('remedy')
      .description('What would make a refused action allowed: each change that would, tried, with what else it would open, the least first.'),
  )
    .argument('<person>', 'by id, address or name')
    .argument('<action>', 'for example hive.update')
    .argument('<record>', 'by id, by what it is called, or by its address in the browser')
    .option('--as <person>', 'who asks, and makes the change; what they may not make is marked')
    .option('--carry-out <number>', 'carry one of them out, and ask again')
    .addOption(new Option('--format <format>', 'how to write the answer').choices(['text', 'json'] as const).default('text' as const))
    .addHelpText(
      'after',
      '\nExample:\n  lintel remedy tobias hive.update a-hive-02\n  lintel remedy tobias hive.update a-hive-02 --as maren --carry-out 1\n\nExit codes: 0 it is allowed, 1 it is not, 2 not answered',
    )
    .action(async (person, action, record, options) => {
      answered(await remedyCommand(person, action, record, options, around));
    });
}
