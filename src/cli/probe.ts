import { readFile } from 'node:fs/promises';
import { resolve } from 'node:path';
import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { LintelError } from '../base/index.js';
import { asCurl, asTest, PROBE_CODES, type ProbeFinding, type ProbeProgress, type ProbeReport, type ProbeTarget, probe } from '../rehearsal/index.js';
import type { Lintel } from '../server/index.js';
import type { Database } from '../store/index.js';
import { type Judged, judged, nameOf, open, placeOf } from './accepting.js';
import { barFor } from './bar.js';
import { readConfig, type Sources } from './config.js';
import { isPeopled, membersIn, withoutPeople } from './copy.js';
import type { LintelConfig } from './define.js';
import { asConfigured } from './failing.js';
import { gridFor, markdown } from './grid.js';
import { onlyRecords, recordsIn, withDatabase } from './look.js';
import { withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface ProbeOptions extends Sources {
  readonly only?: readonly string[] | undefined;
  readonly since?: string | undefined;
  readonly tests?: true | undefined;
  readonly place?: string | undefined;
  readonly format: 'text' | 'json' | 'md';
}

/** What an earlier report has found: the code and the place of each. */
async function knownIn(file: string, cwd: string): Promise<ReadonlySet<string>> {
  const wrong = (why: string, cause?: unknown) =>
    new LintelError('bad-report', `--since ${file}: ${why}; give a report that \`lintel probe --format json\` has written`, {}, { cause });
  const text = await readFile(resolve(cwd, file), 'utf8').catch((error: unknown) => {
    throw wrong('it cannot be read', error);
  });
  try {
    return new Set((JSON.parse(text) as ProbeReport).findings.map((one) => nameOf(one.code, placeOf(one))));
  } catch (error) {
    throw wrong('it is no report', error);
  }
}

/** By route, for each of the people, how many calls were answered with success, out of how many. */
function coverageRows({ coverage }: ProbeReport): string[][] {
  return coverage.map(({ route, by }) => [route, ...by.map(({ calls, answered }) => (calls === 0 ? '' : `${answered}/${calls}`))]);
}

const first = (name: string) => (name.startsWith('a ') ? name.slice(2) : (name.split(' ')[0] as string));

function printed(report: ProbeReport, findings: readonly Judged<ProbeFinding>[], around: Surroundings): string {
  const c = pc.createColors(around.colours);
  const left = open(findings);
  const tint = { error: c.red, warning: c.magenta };
  const lines = left.map((one) => {
    const { why, remedy } = PROBE_CODES[one.code];
    const others = one.people.length - 1;
    return [
      `${tint[one.severity](one.severity)}  ${placeOf(one)}  ${c.dim(one.code)}`,
      `  ${one.message}${others > 0 ? `; so for ${others} more` : ''}.`,
      `  ${why} ${remedy}`,
      `  ${c.dim(asCurl(one))}`,
    ].join('\n');
  });
  const unreached = report.unreached.map(({ route, why }) => `not tried  ${route}  ${why}`);
  const accepted = findings.length - left.length;
  const count = `${report.calls} calls as ${report.people.length} people: ${left.length === 0 ? c.green('nothing was found') : `${left.length} found`}${accepted > 0 ? `, ${accepted} accepted` : ''}.`;
  const table = gridFor(around, ['answered with success', ...report.people.map(first)], coverageRows(report));
  return [...lines, table, ...(unreached.length > 0 ? [unreached.join('\n')] : []), count].join('\n\n');
}

function asMarkdown(report: ProbeReport, findings: readonly Judged<ProbeFinding>[]): string {
  const rows = open(findings).map((one) => [one.severity, placeOf(one), one.code, one.message, asCurl(one)]);
  return [
    '# Probe',
    rows.length === 0 ? 'Nothing was found.' : markdown(['', 'route', 'code', 'what', 'again'], rows),
    '## Answered with success',
    markdown(['route', ...report.people], coverageRows(report)),
    ...(report.unreached.length > 0
      ? [
          '## Not tried',
          markdown(
            ['route', 'why'],
            report.unreached.map(({ route, why }) => [route, why]),
          ),
        ]
      : []),
  ].join('\n\n');
}

/** The application that is configured, with its people. */
export async function targetOf(target: NonNullable<LintelConfig['probe']>, config: LintelConfig, db: Database, lintel: Lintel): Promise<ProbeTarget> {
  return {
    ...(isPeopled(config) && { people: await membersIn(config, db, onlyRecords(lintel)) }),
    ...(await asConfigured('probe in the configuration', () => target(db))),
  };
}

/** What the application writes to its console while it is tried would stand between the lines of the answer: it is counted. */
async function withoutItsLog<R>(work: () => Promise<R>): Promise<{ readonly done: R; readonly lines: number }> {
  const names = ['log', 'info', 'warn', 'error', 'debug'] as const;
  const own = names.map((name) => [name, console[name]] as const);
  let lines = 0;
  for (const name of names)
    console[name] = () => {
      lines += 1;
    };
  try {
    return { done: await work(), lines };
  } finally {
    for (const [name, write] of own) console[name] = write;
  }
}

async function probeCommand(options: ProbeOptions, around: Surroundings): Promise<number> {
  const config = await readConfig(options, around.cwd);
  const target = config.probe;
  if (!target) throw new LintelError('no-probe', 'There is no application to try: give defineConfig a probe, which answers { app, signIn, routes }.', {});
  const known = options.since === undefined ? undefined : await knownIn(options.since, around.cwd);
  return withDatabase(withoutPeople(config), async (lintel, db) => {
    const bar = await barFor(around, 'trying', '  {found} found  {what}');
    around.err('Trying the application as everybody. What is changed by it is put back.');
    const told = ({ done, of, ...rest }: ProbeProgress) => (done === 0 ? bar?.start(of, 0, rest) : bar?.update(done, rest));
    const trying = { ...(await targetOf(target, config, db, lintel)), ...(options.only && { only: options.only }) };
    const { done: report, lines } = await withoutItsLog(() => probe(lintel, recordsIn(lintel, options.place), trying, told)).finally(() => bar?.stop());
    if (lines > 0) around.err(`The application wrote ${lines} ${lines === 1 ? 'line' : 'lines'} to its console meanwhile, left out here.`);
    const fresh = report.findings.filter((one) => !known?.has(nameOf(one.code, placeOf(one))));
    const findings = judged(fresh, config.accepted, placeOf);
    const left = open(findings);
    around.out(
      options.tests
        ? left.map(asTest).join('\n\n')
        : {
            text: () => printed(report, findings, around),
            json: () => JSON.stringify({ ...report, findings }, null, 2),
            md: () => asMarkdown(report, findings),
          }[options.format](),
    );
    return left.length > 0 ? EXIT.refused : EXIT.yes;
  });
}

export function addProbeCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program
      .command('probe')
      .description('Tries the running application as every sort of person, and holds each answer and change against the charter. What it changes is put back.'),
  )
    .option('--only <routes...>', 'only these routes: "GET /api/hives/{id}"')
    .option('--since <report>', 'only what an earlier report, of --format json, has not found yet')
    .option('--place <name>', 'where records are in several places: the one whose organisations are tried')
    .option('--tests', 'write what was found as tests for Vitest')
    .addOption(new Option('--format <format>', 'how to write the answer').choices(['text', 'json', 'md'] as const).default('text' as const))
    .addHelpText(
      'after',
      '\nExample:\n  lintel probe --format md > probe.md\n\nThe application stands in lintel.config.ts, and works on the database that is opened there:\n  probe: (db) => ({ app: createApp(db).fetch, signIn: async (person, send) => ({ cookie: ... }), routes: openApi })\n\nExit codes: 0 nothing was found, 1 something was, 2 not tried',
    )
    .action(async (options) => {
      answered(await probeCommand({ ...options, only: options.only }, around));
    });
}
