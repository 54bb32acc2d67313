/* Which of the planted faults are found, as tables: `npm run probed`; with `rules` those in rules alone, with names of faults only these. */
import { startPostgres } from '../test/setup.js';
import { FAULTS } from './faults.js';
import { scoreRules } from './rules.js';
import { probeLending } from './score.js';

const cluster = await startPostgres();
const wanted = process.argv.slice(2);

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

try {
  if (wanted.length === 0 || wanted[0] === 'rules') await scoreRules(cluster.url);
  if (wanted[0] !== 'rules') await scoreProbe();
} finally {
  await cluster.stop();
}
