import { readFile, writeFile } from 'node:fs/promises';
import { resolve } from 'node:path';
import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { didYouMean, LintelError } from '../base/index.js';
import { type Charter, KEYHOLDER } from '../charter/index.js';
import { madeUpFacts, type Outcome, readScript, recordScript, rehearse, rehearseAtWall, type Script, type Stage, type WallStage } from '../rehearsal/index.js';
import { Standing } from '../standing/index.js';
import { connect } from '../store/index.js';
import { openUrl, readConfig, type Sources } from './config.js';
import { findPerson, findTenant, type Tenant, withDatabase } from './look.js';
import { withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface RehearseOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly record?: true | undefined;
  readonly junit?: string | undefined;
  readonly wall?: string | undefined;
  readonly format: 'text' | 'json';
}

type Facts = ConstructorParameters<typeof Standing>[1];

function roleOf(charter: Charter<any>, facts: Facts['tenant'], name: string): Standing<any> {
  const labels = new Map([KEYHOLDER, ...Object.keys(charter.data.roles)].flatMap((role) => [[role, role] as const, [charter.role(role).label, role] as const]));
  const role = labels.get(name);
  if (role === undefined) throw new LintelError('unknown-role', `no role "${name}"${didYouMean(name, labels.keys())}`, { role: name });
  return new Standing(charter, madeUpFacts(charter, facts, [{ role, anchor: { on: 'tenant' } }]));
}

/** The people and roles of a tenant, to hold a script against. */
export async function stageOf(tenant: Tenant): Promise<Stage> {
  const facts = await tenant.facts();
  const charter: Charter<any> = tenant.lintel.charter;
  const visitor = once(() => tenant.lintel.enter({ tenant: tenant.id }));
  return {
    charter,
    person: once(async (name) => tenant.standingOf(await findPerson(tenant, name))),
    role: once(async (name) => roleOf(charter, facts, name)),
    visitor: () => visitor(''),
    members: tenant.members,
  };
}

/** Whoever is named often is looked up once. */
function once<T>(look: (name: string) => Promise<T>): (name: string) => Promise<T> {
  const known = new Map<string, Promise<T>>();
  return (name) => {
    const found = known.get(name) ?? look(name);
    known.set(name, found);
    return found;
  };
}

async function record(tenant: Tenant): Promise<string> {
  const { charter } = tenant.lintel;
  const facts = await tenant.facts();
  const roles = Object.keys(charter.data.roles).map((role) => ({ name: charter.role(role).label, standing: roleOf(charter, facts, role) }));
  const named = new Map<string, number>();
  for (const { name } of tenant.members) named.set(name, (named.get(name) ?? 0) + 1);
  const people = [];
  // Of two who are called the same, each is called by their id; and so is who is called like somebody's id, or like no person.
  const ids = new Set(tenant.members.map(({ id }) => id));
  const isTheirs = (name: string) => named.get(name) === 1 && !ids.has(name) && name.toLowerCase() !== 'visitor';
  for (const { id, name } of tenant.members) people.push({ name: isTheirs(name) ? name : id, standing: await tenant.standingOf(id) });
  people.push({ name: 'visitor', standing: await tenant.lintel.enter({ tenant: tenant.id }) });
  return recordScript(charter, facts.name, roles, people);
}

/** As JUnit has it: what builds everywhere read. */
async function junitOf(file: string, outcomes: readonly Outcome[]): Promise<string> {
  const { default: junit } = await import('junit-report-builder');
  const report = junit.newBuilder();
  const suite = report.testSuite().name(file);
  for (const { name, line, held, words } of outcomes) {
    const test = suite.testCase().className(file).name(`${name} (line ${line})`).file(`${file}:${line}`);
    if (!held) test.failure(words);
  }
  return report.build();
}

function printed(file: string, outcomes: readonly Outcome[], colours: boolean): string {
  const c = pc.createColors(colours);
  const broken = outcomes.filter(({ held }) => !held);
  const count = `${outcomes.length - broken.length} of ${outcomes.length} expectations hold`;
  return [...broken.map(({ words, line }) => `${c.red('differs')}  ${words}  ${c.dim(`${file}:${line}`)}`), broken.length === 0 ? c.green(count) : count].join(
    '\n',
  );
}

/** The same script, asked of the database in the application's own name. */
async function atWall(script: Script, stage: Stage, url: string): Promise<Outcome[]> {
  const app = connect<any>(await openUrl(url));
  try {
    return await rehearseAtWall(script, { ...(stage as unknown as WallStage), app });
  } finally {
    await app.destroy();
  }
}

async function rehearseCommand(file: string, options: RehearseOptions, around: Surroundings): Promise<number> {
  const config = await readConfig(options, around.cwd);
  const path = resolve(around.cwd, file);
  return withDatabase(config, async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant);
    if (options.record) {
      await writeFile(path, await record(tenant));
      around.out(`What is so now is in ${file}. Read it: what should not be so is to be changed before it is kept.`);
      return EXIT.yes;
    }
    const text = await readFile(path, 'utf8').catch(() => {
      throw new LintelError('no-script', `There is no file ${file}. Write what is so now with: lintel rehearse ${file} --record`, {});
    });
    const script = readScript(text, lintel.charter);
    const stage = await stageOf(tenant);
    const outcomes = [...(await rehearse(script, stage)), ...(options.wall === undefined ? [] : await atWall(script, stage, options.wall))];
    if (options.junit !== undefined) await writeFile(resolve(around.cwd, options.junit), await junitOf(file, outcomes));
    around.out(options.format === 'json' ? JSON.stringify(outcomes, null, 2) : printed(file, outcomes, around.colours));
    return outcomes.every(({ held }) => held) ? EXIT.yes : EXIT.refused;
  });
}

export function addRehearseCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('rehearse')
      .description('Holds access against what a Markdown file expects: tables of how far each action reaches, and sentences about records.'),
  )
    .argument('<file>', 'the expectations, in Markdown')
    .option('--record', 'write the present access as such a file instead')
    .option('--wall <url>', 'ask the database under its row policies too: its address, as the role of the application')
    .option('--junit <file>', 'also write what held and what did not as JUnit XML')
    .addOption(new Option('--format <format>', 'how to write the answer').choices(['text', 'json'] as const).default('text' as const))
    .addHelpText(
      'after',
      '\nExample:\n  lintel rehearse access.md --record --tenant alderbrook\n  lintel rehearse access.md --tenant alderbrook --junit report.xml\n  lintel rehearse access.md --tenant alderbrook --wall postgres://apiary_app@localhost/apiary\n\nExit codes: 0 all hold, 1 something differs, 2 not answered',
    )
    .action(async (file, options) => {
      answered(await rehearseCommand(file, options, around));
    });
}
