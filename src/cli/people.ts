import { readFile } from 'node:fs/promises';
import { resolve } from 'node:path';
import type { Command } from '@commander-js/extra-typings';
import { LintelError } from '../base/index.js';
import { handRecords, type LineProblem, readOwnersFile, readPeopleFile, writePeopleFile } from '../provisioning/index.js';
import type { BringReport } from '../server/index.js';
import { barFor } from './bar.js';
import { readConfig, type Sources } from './config.js';
import { ofOwn } from './copy.js';
import { answer } from './grid.js';
import { actorOf, findTenant, withDatabase } from './look.js';
import { acting } from './membership.js';
import { formatOption, withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface PeopleOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly as?: string | undefined;
  readonly dryRun?: true | undefined;
  readonly reason?: string | undefined;
  readonly format: 'text' | 'json' | 'md';
}

const problemRows = (problems: readonly LineProblem[]) => problems.map(({ line, column, code, words }) => [String(line), column ?? '', words, code]);

function told(
  { invited, changed, same, refused }: BringReport,
  dryRun: boolean,
  lineOf: ReadonlyMap<string, number>,
  { format }: PeopleOptions,
  around: Surroundings,
): number {
  if (format === 'json') around.out(JSON.stringify({ dryRun, invited, changed, same, refused }, null, 2));
  else {
    around.out(`${dryRun ? 'It would be so; nothing was done: ' : ''}${invited} invited, ${changed} changed, ${same} as they are, ${refused.length} refused.`);
    const rows = refused.map(({ address, words, code }) => [String(lineOf.get(address) ?? ''), address, words, code]);
    if (rows.length > 0) around.out(answer(around, format, refused, ['line', 'address', 'why not', ''], rows));
  }
  return refused.length === 0 ? EXIT.yes : EXIT.refused;
}

export async function textOf(file: string, { cwd }: Surroundings): Promise<string> {
  return readFile(resolve(cwd, file), 'utf8').catch((cause: unknown) => {
    throw new LintelError('bad-file', `${file} cannot be read: ${cause instanceof Error ? cause.message : String(cause)}`, {}, { cause });
  });
}

function mistaken(problems: readonly LineProblem[], { format }: PeopleOptions, around: Surroundings): number {
  around.out(answer(around, format, { problems }, ['line', 'column', 'what is wrong', ''], problemRows(problems)));
  around.err(`${problems.length === 1 ? '1 mistake' : `${problems.length} mistakes`}; nothing was done.`);
  return EXIT.refused;
}

async function ownersCommand(file: string, options: PeopleOptions & { readonly kind?: string | undefined }, around: Surroundings): Promise<number> {
  const { kind, dryRun = false, format } = options;
  if (kind === undefined) throw new LintelError('unknown-kind', 'Say of which kind the records are: --kind hive.', {});
  return withDatabase(ofOwn(await readConfig(options, around.cwd)), async (lintel) => {
    const actor = await actorOf(await findTenant(lintel, options.tenant), options);
    const { records, problems } = await readOwnersFile(await textOf(file, around), actor, kind);
    if (problems.length > 0) return mistaken(problems, options, around);
    const bar = await barFor(around, kind);
    bar?.start(records.length, 0);
    const report = await handRecords(actor, kind, records, { dryRun, progress: (done) => bar?.update(done) });
    bar?.stop();
    const { handed, same, refused } = report;
    if (format === 'json') around.out(JSON.stringify({ dryRun, ...report }, null, 2));
    else {
      around.out(`${dryRun ? 'It would be so; nothing was done: ' : ''}${handed} handed over, ${same} as they are, ${refused.length} refused.`);
      if (refused.length > 0)
        around.out(
          answer(
            around,
            format,
            refused,
            ['record', 'why not', ''],
            refused.map(({ record, words, code }) => [record, words, code]),
          ),
        );
    }
    return refused.length === 0 ? EXIT.yes : EXIT.refused;
  });
}

async function peopleCommand(file: string | undefined, options: PeopleOptions, around: Surroundings): Promise<number> {
  return withDatabase(ofOwn(await readConfig(options, around.cwd)), async (lintel) => {
    const actor = await actorOf(await findTenant(lintel, options.tenant), options);
    if (file === undefined) {
      around.out((await writePeopleFile(actor)).trimEnd());
      return EXIT.yes;
    }
    const { people, problems } = await readPeopleFile(await textOf(file, around), actor);
    if (problems.length > 0) return mistaken(problems, options, around);
    const bar = await barFor(around, 'people');
    bar?.start(people.length, 0);
    const { dryRun = false, reason } = options;
    const report = await actor.members.bring(people, { dryRun, ...(reason !== undefined && { reason }), progress: (done) => bar?.update(done) });
    bar?.stop();
    return told(report, dryRun, new Map(people.map(({ address, line }) => [address, line])), options, around);
  });
}

/** `people` and `owners`: lists as CSV. */
export function addPeopleCommands(program: Command, around: Surroundings, answered: (code: number) => void): void {
  acting(
    withSources(
      program
        .command('people')
        .description(
          'Brings people from a CSV file: members get what they lack, others are invited. Nothing is taken away. Without a file, writes the members as one.',
        ),
    ),
  )
    .argument(
      '[file]',
      'without: the members are written as such a file; columns: address, name, roles, groups, units, until, and the attributes of the charter',
    )
    .addOption(formatOption())
    .addHelpText(
      'after',
      '\nExample:\n  lintel people people.csv --as maren --tenant alderbrook --dry-run\n  lintel people --as maren --tenant alderbrook > people.csv\n\n  address,name,roles,groups,until\n  nora@fern.example,Nora Fern,"Keeper; Site warden@Orchard side",Juniors,2027-12-31',
    )
    .action(async (file, options) => {
      answered(await peopleCommand(file as string | undefined, options as PeopleOptions, around));
    });
  acting(
    withSources(
      program
        .command('owners')
        .description('Makes records somebody’s from a CSV file, each by the rules of handing over for whoever does it. The same file again changes nothing.'),
    ),
  )
    .argument('<file>', 'columns: record (its id) and owner (a member, by address, id or name; empty: nobody)')
    .option('--kind <kind>', 'of which kind the records are')
    .addOption(formatOption())
    .addHelpText(
      'after',
      '\nExample:\n  lintel owners hives.csv --kind hive --as maren --tenant alderbrook --dry-run\n\n  record,owner\n  a-hive-02,sela@alderbrook.example',
    )
    .action(async (file, options) => {
      answered(await ownersCommand(file as string, options as PeopleOptions & { kind?: string }, around));
    });
}
