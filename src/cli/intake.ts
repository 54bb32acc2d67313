import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { LintelError } from '../base/index.js';
import { intakeOf } from '../rehearsal/index.js';
import { createLintel, type IntakeCount, type IntakeReport } from '../server/index.js';
import { connect } from '../store/index.js';
import { openDatabase, readConfig, type Sources } from './config.js';
import { isPeopled, membersIn, memory } from './copy.js';
import { withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface IntakeCommandOptions extends Sources {
  readonly dryRun?: true | undefined;
  readonly format: 'text' | 'json';
}

function lines({ people, tenants, members, opened, closed, refused }: IntakeReport, colours: ReturnType<typeof pc.createColors>): string[] {
  const line = (what: string, { brought, changed, same, kept, refused: not }: IntakeCount) =>
    `${what.padEnd(13)} ${`${brought} new, ${changed} changed, ${same} as they are`}${kept > 0 ? `, ${kept} left as somebody here made them` : ''}${not > 0 ? `, ${colours.red(`${not} not taken`)}` : ''}`;
  const why = refused.map(
    ({ what, id, tenant, words, code }) => `  ${what} ${id}${tenant === undefined ? '' : ` in ${tenant}`}: ${words}  ${colours.dim(code)}`,
  );
  return [
    'What lintel.intake would do, of the people in the configuration; nothing was done:',
    '',
    line('people', people),
    line('organisations', tenants),
    line('members', members),
    `${opened} organisations would be opened${closed > 0 ? `, ${colours.red(`${closed} stay closed`)}` : ''}`,
    ...(why.length > 0 ? ['', 'Not taken, or closed:', ...why] : []),
  ];
}

async function intakeCommand(options: IntakeCommandOptions, around: Surroundings): Promise<number> {
  if (!options.dryRun)
    throw new LintelError('dry-run-alone', 'People are taken in by code of the application, with lintel.intake; add --dry-run to see what it would do.', {});
  const config = await readConfig(options, around.cwd);
  if (!isPeopled(config)) throw new LintelError('no-people', 'The configuration names no people. Give defineConfig a function people.', {});
  const { db, close } = await openDatabase(config);
  // Where the application has no tables of the library yet, it is tried in a database in memory.
  const records = connect<any>(db);
  const isThere = (await records.introspection.getTables()).some(({ name }) => name === 'lintel_brought');
  const copy = isThere ? undefined : await memory();
  try {
    const lintel = createLintel({ charter: config.charter, db: copy ?? db, ...(copy && { records }) });
    if (copy) await lintel.prepare();
    const report = await lintel.intake(intakeOf(config.charter, await membersIn(config, db)), { dryRun: true });
    around.out(options.format === 'json' ? JSON.stringify(report, null, 2) : lines(report, pc.createColors(around.colours)).join('\n'));
    return report.refused.length === 0 ? EXIT.yes : EXIT.refused;
  } finally {
    await copy?.close();
    await close();
  }
}

export function addIntakeCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('intake')
      .description('Shows what lintel.intake would do with the people of the configuration, and whom it would not take. Nothing is changed.'),
  )
    .option('--dry-run', 'required: lintel.intake in your code carries it out')
    .addOption(new Option('--format <format>', 'how to write it').choices(['text', 'json'] as const).default('text' as const))
    .addHelpText('after', '\nExample:\n  lintel intake --dry-run --config lintel.config.ts')
    .action(async (options) => {
      answered(await intakeCommand(options, around));
    });
}
