/* Which of the faults that are planted in whole applications the probe finds, as tables: `npm run properties -- probed`. */
import type { ProbeReport } from 'warm-lintel/rehearsal';
import { type Cluster, startPostgres } from '../../test/setup.js';
import { probeApiary, scoreApiary } from './apiary.js';
import { APPLICATIONS, scoreApplication } from './applications.js';
import { FAULTS } from './faults.js';
import { scoreLendingRules } from './lending-rules.js';
import { type MachineFault, machineFaults, spoilt, withFault } from './machine.js';
import { scoreRules } from './rules.js';
import { probeLending } from './score.js';

let cluster: Cluster;
let wanted: readonly string[] = [];

async function scoreProbe(): Promise<void> {
  const started = Date.now();
  const sound = await probeLending(cluster.url, []);
  console.log(
    `without a fault: ${sound.report.findings.map(({ code, route, message }) => `${code} ${route}: ${message}`).join('; ') || 'nothing was found'}; ${sound.report.calls} calls; ${sound.untouched ? 'everything is as it was' : 'NOT AS IT WAS'}\n`,
  );
  console.log('| fault | what is wrong | found as |\n| --- | --- | --- |');
  let found = 0;
  const faults = FAULTS.filter(([name]) => wanted.length === 0 || wanted.includes(name));
  for (const [fault, what] of faults) {
    const { report, untouched } = await probeLending(cluster.url, [fault]);
    if (report.findings.length > 0) found += 1;
    const codes = [...new Set(report.findings.map(({ code }) => code))];
    console.log(`| ${fault} | ${what} | ${codes.join(', ') || '**missed**'}${untouched ? '' : ' (NOT AS IT WAS)'} |`);
    if (wanted.length > 0) for (const one of report.findings) console.log(`    ${one.route}: ${one.message}`);
  }
  console.log(`\n${found} of ${faults.length} found, in ${Math.round((Date.now() - started) / 1000)} s`);
}

/** What a program makes of an application. Those that were not found are to be read by a person: some let nobody come to more. */
async function scoreMachine(
  all: readonly MachineFault[],
  sound: ProbeReport,
  tried: (fault: MachineFault, number: number, only?: string[]) => Promise<ProbeReport>,
): Promise<void> {
  const routes = sound.coverage.map(({ route }) => route);
  // `/records/{area}` in the source may stand for several that are tried.
  const triedOf = ({ route = '' }: MachineFault) => {
    const like = new RegExp(`^${route.replace(/\{\w+\}/g, '[^/]+')}$`);
    return routes.filter((one) => like.test(one));
  };
  const faults = all.filter((one) => (one.route === undefined || triedOf(one).length > 0) && (wanted.length < 2 || wanted.includes(one.name)));
  const missed: string[] = [];
  const next = faults.entries();
  const work = async (): Promise<void> => {
    for (const [i, fault] of next) {
      const only = fault.route === undefined ? undefined : triedOf(fault);
      const found = await tried(fault, i, only).then(
        ({ findings }) => [...new Set(findings.map(({ code }) => code))].join(', '),
        (error: unknown) => `not tried: ${error instanceof Error ? error.message : String(error)}`,
      );
      if (found === '') missed.push(`| ${fault.name} | ${fault.route ?? 'all routes'} | \`${fault.what.replaceAll('|', '\\|')}\` |`);
      console.error(`${i + 1}/${faults.length} ${fault.name} ${fault.route ?? ''}: ${found || 'not found'}`);
    }
  };
  await Promise.all([work(), work()]);
  console.log(`${faults.length - missed.length} of ${faults.length} found. The others:\n\n| where | route | what |\n| --- | --- | --- |\n${missed.join('\n')}`);
}

async function scoreMachineOnLending(sort: 'taken' | 'exchanged' | 'slips'): Promise<void> {
  const { report } = await probeLending(cluster.url, []);
  await scoreMachine(machineFaults[sort](), report, async (fault, i, only) => {
    const { startLending } = await withFault(fault, i);
    return (await probeLending(cluster.url, [], only, startLending)).report;
  });
}

/** In the demo's own application, of what stands in the routes that are tried, or before them. */
async function scoreMachineOnApiary(): Promise<void> {
  const sound = await probeApiary(cluster.url);
  await scoreMachine(machineFaults.past(), sound, (fault, i, only) =>
    probeApiary(cluster.url, `machine-${i}`, (file, text) => spoilt(fault, file, text), only),
  );
}

const SCORES: Readonly<Record<string, () => Promise<void>>> = {
  rules: () => scoreRules(cluster.url),
  'lending-rules': () => scoreLendingRules(cluster.url),
  apiary: () => scoreApiary(cluster.url, wanted.slice(1)),
  machine: () => scoreMachineOnLending('taken'),
  exchanged: () => scoreMachineOnLending('exchanged'),
  slips: () => scoreMachineOnLending('slips'),
  past: scoreMachineOnApiary,
  ...Object.fromEntries(Object.entries(APPLICATIONS).map(([name, one]) => [name, () => scoreApplication(cluster.url, one, wanted.slice(1))])),
};

/** Prints the tables that are named; without a name those of rules, of the demo's application and of the lending one. */
export async function scoreAll(what: readonly string[]): Promise<void> {
  cluster = await startPostgres();
  const [one] = what;
  wanted = one === 'lending' ? what.slice(1) : what;
  try {
    if (one === undefined) for (const score of [SCORES.rules, SCORES['lending-rules'], SCORES.apiary, scoreProbe]) await score?.();
    else await (SCORES[one] ?? scoreProbe)();
  } finally {
    await cluster.stop();
  }
}
