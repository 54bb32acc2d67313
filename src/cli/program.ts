import { Command, CommanderError, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { isLintelError } from '../base/index.js';
import { accessTable, explanationMarkdown, printExplanation, printTable, roleSubjects, tableMarkdown, writeAccessFile } from '../rehearsal/index.js';
import { checkPolicies, dropStatements, policyStatements } from '../scoping/index.js';
import { addAdmitCommand } from './admit.js';
import { addAppealsCommand } from './appeals.js';
import { addAuditCommand } from './audit.js';
import { addChangesCommand } from './changes.js';
import { addCompareCommand } from './compare.js';
import { readConfig, type Sources } from './config.js';
import { withoutPeople } from './copy.js';
import { addDeskCommand } from './desk/command.js';
import { addDirectoryCommand } from './directory.js';
import { addGivesCommand } from './gives.js';
import { addIntakeCommand } from './intake.js';
import { addJournalCommand } from './journal.js';
import { explainIn, findPerson, findRecord, findTenant, tableOf, withDatabase } from './look.js';
import { addMembershipCommands } from './membership.js';
import { formatOption, withSources } from './options.js';
import { addPeopleCommands } from './people.js';
import { addProbeCommand } from './probe.js';
import { addRehearseCommand } from './rehearse.js';
import { addRemedyCommand } from './remedy.js';
import { addReviewCommand } from './review.js';
import { addStartCommand } from './start.js';
import { EXIT, type Surroundings } from './surroundings.js';
import { addWhoCommand } from './who.js';

const EXITS = `
Exit codes:
  0  answered (and, for why, allowed)
  1  why: answered, and refused; policies --check, audit --verify: answered, and something was found;
     members, invite: what cannot be, or not for all; rehearse: something differs;
     changes: access grew that was not declared; review, probe: something was found
  2  not answered: an unknown name, no configuration, no database`;

/** The commands as help lists them, in the order of the work. */
const GROUPS: Readonly<Record<string, readonly string[]>> = {
  'Look:': ['table', 'why', 'who', 'gives', 'compare', 'roles', 'audit', 'journal', 'admit', 'directory', 'desk'],
  'Hold:': ['rehearse', 'changes', 'review', 'probe'],
  'Change:': ['members', 'enrol', 'invite', 'people', 'owners', 'remedy', 'appeals'],
  'Set up:': ['start', 'intake', 'policies'],
};

interface TableOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly by: 'people' | 'roles';
  readonly only: readonly string[];
  readonly most?: string | undefined;
  readonly format: 'text' | 'json' | 'md' | 'csv';
}

async function tableCommand(options: TableOptions, around: Surroundings): Promise<number> {
  const config = await readConfig(options, around.cwd);
  const only = options.only.map((name) => {
    if (!['area', 'tenant', 'unit', 'member', 'audit'].includes(name)) config.charter.kind(name);
    return name;
  });
  const { charter } = config;
  const table =
    config.database || options.by === 'people'
      ? await withDatabase(config, async (lintel) => tableOf(await findTenant(lintel, options.tenant), options.by, { only, most: options.most }))
      : await accessTable(charter, 'roles', roleSubjects(charter, { id: '', name: '', open: true, contact: null, features: [] }, []), { only });
  if (options.format === 'csv') {
    around.out((await writeAccessFile(table)).trimEnd());
    return EXIT.yes;
  }
  around.out(
    {
      text: () => printTable(table, pc.createColors(around.colours), around.width),
      json: () => JSON.stringify(table, null, 2),
      md: () => tableMarkdown(table),
    }[options.format](),
  );
  return EXIT.yes;
}

interface WhyOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly format: 'text' | 'json' | 'md';
}

async function whyCommand(person: string, action: string, recordId: string | undefined, options: WhyOptions, around: Surroundings): Promise<number> {
  const config = await readConfig(options, around.cwd);
  const { kind } = config.charter.permission(action);
  return withDatabase(config, async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant, person, { kind, record: recordId });
    const standing = await tenant.standingOf(await findPerson(tenant, person));
    const record = kind && recordId !== undefined ? { kind, id: await findRecord(tenant, kind, recordId) } : undefined;
    const decision = record ? await standing.decideById(action, record.id) : standing.decide(action);
    const explanation = await explainIn(tenant, standing, decision, record);
    around.out(
      {
        text: () => printExplanation(explanation, pc.createColors(around.colours)),
        json: () => JSON.stringify(explanation, null, 2),
        md: () => explanationMarkdown(explanation),
      }[options.format](),
    );
    return decision.allowed ? EXIT.yes : EXIT.refused;
  });
}

interface PoliciesOptions extends Sources {
  readonly role: string;
  readonly journal?: true | undefined;
  readonly undo?: true | undefined;
  readonly check?: true | undefined;
  readonly format: 'text' | 'json';
}

async function policiesCommand(options: PoliciesOptions, around: Surroundings): Promise<number> {
  const config = await readConfig(options, around.cwd);
  const wanted = { role: options.role, journal: options.journal === true };
  if (!options.check) {
    around.out((options.undo ? dropStatements(config.charter) : policyStatements(config.charter, wanted)).join('\n'));
    return EXIT.yes;
  }
  const found = await withDatabase(withoutPeople(config), (lintel) => checkPolicies(lintel.db, config.charter, wanted));
  const colours = pc.createColors(around.colours);
  const lines = found.map(({ message, code, remedy }) => `${colours.red(message)}  ${colours.dim(code)}\n    ${remedy}`);
  const text =
    found.length === 0
      ? `The policies are those of the charter, and nothing was found by which ${options.role} gets around them.`
      : `${lines.join('\n')}\n\n${found.length} found`;
  around.out(options.format === 'json' ? JSON.stringify(found, null, 2) : text);
  return found.length === 0 ? EXIT.yes : EXIT.refused;
}

/** What PostgreSQL says of a table that is not there (SQLSTATE `undefined_table`), as somebody can use it. */
function missingTable(error: unknown): string | undefined {
  const { code, message = '' } = error as { code?: string; message?: string };
  if (code !== '42P01') return undefined;
  const table = /relation "([^"]+)"/.exec(message)?.[1] ?? 'that is asked';
  return table.startsWith('lintel_')
    ? 'The membership is not in this database. Is it the right one? The application makes the tables with lintel.prepare().'
    : `There is no table ${table} in this database, and the charter or the configuration names it. Is it the right one, and is the charter that of the application?`;
}

/** Every command, in the order of the work. @param answered told of the exit code of the one that was called. */
export function commands(around: Surroundings, answered: (code: number) => void): Command {
  const program = new Command('lintel')
    .description('Shows who may do what, without signing in as anybody. It changes something only in the name of somebody whom you name.')
    .exitOverride()
    .configureOutput({ writeOut: (text) => around.out(text.replace(/\n$/, '')), writeErr: (text) => around.err(text.replace(/\n$/, '')) })
    .addHelpText('after', EXITS);
  withSources(
    program.command('table').description('The access table: roles or people against actions, each cell how far it reaches, with counts on the real records.'),
  )
    .addOption(new Option('--by <what>', 'what stands at the side').choices(['roles', 'people'] as const).default('roles' as const))
    .option('--only <names...>', 'only these kinds or groups (area, member, tenant, unit, audit)')
    .option('--most <people>', 'count the records that more people than this may read')
    .addOption(new Option('--format <format>', 'how to write the answer').choices(['text', 'json', 'md', 'csv'] as const).default('text' as const))
    .addHelpText('after', `\nExample:\n  lintel table --by people --only hive --tenant alderbrook\n${EXITS}`)
    .action(async (options) => {
      answered(await tableCommand({ ...options, only: options.only ?? [] }, around));
    });
  withSources(
    program.command('why').description('Why somebody may or may not do something: each grant that was looked at, and the part of its rule that failed.'),
  )
    .argument('<person>', 'by id, address or name')
    .argument('<action>', 'for example hive.update')
    .argument('[record]', 'by id, by what it is called, or by its address in the browser')
    .addOption(formatOption())
    .addHelpText('after', `\nExample:\n  lintel why tobias hive.update a-hive-02\n${EXITS}`)
    .action(async (person, action, record, options) => {
      answered(await whyCommand(person, action, record, options, around));
    });
  withSources(
    program.command('policies').description('Prints the row policies that hold the charter in PostgreSQL itself; or compares a live database with them.'),
  )
    .option('--role <role>', 'the role by which the application connects; it owns nothing', 'app')
    .option('--journal', 'with triggers that put down what is written to kinds with a journal, by whatever SQL')
    .option('--undo', 'print the way back instead')
    .option('--check', 'compare the database with the charter, and look for ways around its policies')
    .addOption(new Option('--format <format>', 'how to write what a check finds').choices(['text', 'json'] as const).default('text' as const))
    .addHelpText(
      'after',
      `\nExample:\n  lintel policies --role apiary_app | psql --single-transaction "$DATABASE_URL"\n  lintel policies --check --database "$DATABASE_URL"\n${EXITS}`,
    )
    .action(async (options) => {
      answered(await policiesCommand(options, around));
    });
  addStartCommand(program, around, answered);
  addMembershipCommands(program, around, answered);
  addAuditCommand(program, around, answered);
  addCompareCommand(program, around, answered);
  addChangesCommand(program, around, answered);
  addRehearseCommand(program, around, answered);
  addReviewCommand(program, around, answered);
  addDeskCommand(program, around);
  addProbeCommand(program, around, answered);
  addRemedyCommand(program, around, answered);
  addWhoCommand(program, around, answered);
  addAppealsCommand(program, around, answered);
  addGivesCommand(program, around, answered);
  addJournalCommand(program, around, answered);
  addIntakeCommand(program, around, answered);
  addPeopleCommands(program, around, answered);
  addAdmitCommand(program, around, answered);
  addDirectoryCommand(program, around, answered);
  const order = Object.values(GROUPS).flat();
  const place = (command: { name(): string }) => order.indexOf(command.name());
  (program.commands as unknown as { name(): string }[]).sort((a, b) => place(a) - place(b));
  for (const command of program.commands) command.helpGroup(Object.keys(GROUPS).find((name) => GROUPS[name]?.includes(command.name())) ?? 'Help:');
  program.commandsGroup('Help:').helpCommand('help [command]');
  return program;
}

/** What `lintel` does. @returns the exit code. */
export async function run(args: readonly string[], around: Surroundings): Promise<number> {
  let code: number = EXIT.yes;
  const program = commands(around, (given) => {
    code = given;
  });
  try {
    await program.parseAsync([...args], { from: 'user' });
    return code;
  } catch (error) {
    if (error instanceof CommanderError) return error.exitCode === 0 ? EXIT.yes : EXIT.failed;
    const told = isLintelError(error) ? error.message : missingTable(error);
    if (told === undefined) throw error;
    around.err(`lintel: ${told}`);
    return EXIT.failed;
  }
}
