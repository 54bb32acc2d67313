import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { LintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';
import { printProposal } from '../rehearsal/index.js';
import type { AppealToAnswer, ServerStanding } from '../server/index.js';
import { readConfig, type Sources } from './config.js';
import { ofOwn } from './copy.js';
import { answer } from './grid.js';
import { actorOf, findRecord, findTenant, withDatabase } from './look.js';
import { formatOption, withSources } from './options.js';
import { printRemedies, remedyNumbered } from './remedy.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface AppealsOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly as?: string | undefined;
  readonly mine?: true | undefined;
  readonly ask?: string | undefined;
  readonly record?: string | undefined;
  readonly agree?: string | undefined;
  readonly decline?: true | undefined;
  readonly reason?: string | undefined;
  readonly dryRun?: true | undefined;
  readonly format: 'text' | 'json' | 'md';
}

const day = (moment: Date) => moment.toISOString().slice(0, 10);

/** What somebody asked for, and how it stands. */
async function printMine(standing: ServerStanding, charter: Charter<any>, { format }: AppealsOptions, around: Surroundings): Promise<number> {
  const mine = await standing.appeals.mine();
  const rows = mine.map((one) => [
    one.id.slice(0, 8),
    charter.permissions.get(one.action)?.label ?? one.action,
    one.recordId,
    one.status,
    one.reason ?? '',
    day(one.raisedAt),
  ]);
  around.out(
    mine.length === 0 && format === 'text'
      ? `${standing.facts.me.name} asked for nothing.`
      : answer(around, format, mine, ['', 'what', 'record', 'it is', 'why', 'asked'], rows),
  );
  return EXIT.yes;
}

/** What waits for an answer. */
function printOpen(open: readonly AppealToAnswer[], { facts }: ServerStanding, { format }: AppealsOptions, around: Surroundings): number {
  const rows = open.map((one) => [one.id.slice(0, 8), one.name, one.what, one.record ?? '', one.words ?? '', day(one.raisedAt)]);
  around.out(
    open.length === 0 && format === 'text'
      ? `Nothing waits for an answer of ${facts.me.name}.`
      : answer(around, format, open, ['', 'who', 'asks for', 'record', 'why', 'since'], rows),
  );
  return EXIT.yes;
}

async function appealsCommand(named: string | undefined, options: AppealsOptions, around: Surroundings): Promise<number> {
  const config = ofOwn(await readConfig(options, around.cwd));
  const { charter } = config;
  return withDatabase(config, async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant, options.as);
    const standing = await actorOf(tenant, options);
    const { appeals } = standing;
    if (options.mine) return printMine(standing, charter, options, around);
    if (options.ask !== undefined) {
      if (options.record === undefined) throw new LintelError('which-record', 'Say about which record: --record ID.', {});
      const { kind } = charter.permission(options.ask);
      const record = kind === undefined ? options.record : await findRecord(tenant, kind, options.record);
      if (options.dryRun) {
        const { words } = await standing.decideById(options.ask, record);
        around.out(`${words}\nIt would be asked for; nothing was sent.`);
        return EXIT.yes;
      }
      const id = await appeals.raise(options.ask, record, options.reason);
      around.out(`Asked for, as ${id.slice(0, 8)}. Whoever may answer is told.`);
      return EXIT.yes;
    }
    const open = await appeals.list();
    if (named === undefined) return printOpen(open, standing, options, around);
    const found = open.filter(({ id }) => id.startsWith(named));
    const [one] = found;
    if (!one || found.length > 1)
      throw new LintelError(
        'no-such-appeal',
        found.length > 1 ? `several begin with "${named}"; give more of it` : `no appeal "${named}" waits for an answer; without one they are listed`,
        {},
      );
    if (options.decline) {
      if (!options.dryRun) await appeals.decline(one.id, options.reason);
      around.out(options.dryRun ? `It would be declined, and ${one.name} told; nothing was done.` : `Declined. ${one.name} is told.`);
      return EXIT.yes;
    }
    const remedies = await appeals.remedies(one.id);
    if (options.agree === undefined) {
      around.out(options.format === 'json' ? JSON.stringify(remedies, null, 2) : printRemedies(one.name, one.what, remedies, around.colours));
      return EXIT.yes;
    }
    const chosen = remedyNumbered(remedies, options.agree);
    if (chosen.proposal) around.out(printProposal(chosen.proposal, pc.createColors(around.colours)));
    if (!options.dryRun) await appeals.agree(one.id, chosen, options.reason);
    around.out(options.dryRun ? `Not done: ${chosen.words}.` : `Done: ${chosen.words}. ${one.name} may now, and is told.`);
    return EXIT.yes;
  });
}

export function addAppealsCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(program.command('appeals').description('Asks for what was refused; lists what others ask for, shows what would allow it, agrees or declines.'))
    .argument('[appeal]', 'one of those that wait, by the beginning of its id')
    .option('--as <person>', 'who asks or answers; it goes on record')
    .option('--mine', 'what this person asked for, and how it stands')
    .option('--ask <action>', 'ask for an action that was refused, such as hive.update')
    .option('--record <id>', 'the record that it is about')
    .option('--agree <number>', 'carry out one of the changes that would allow it, and tell')
    .addOption(new Option('--decline', 'say no, and tell').conflicts('agree'))
    .option('--reason <text>', 'why; told to the other side')
    .option('--dry-run', 'show what it would do, and do nothing')
    .addOption(formatOption())
    .addHelpText(
      'after',
      '\nExample:\n  lintel appeals --as tobias --ask hive.update --record a-hive-02 --reason "the roof leaks"\n  lintel appeals --as maren --tenant alderbrook\n  lintel appeals 3f2a --as maren --tenant alderbrook --agree 1 --dry-run\n\nExit codes: 0 answered, 2 not answered',
    )
    .action(async (appeal, options) => {
      answered(await appealsCommand(appeal, options, around));
    });
}
