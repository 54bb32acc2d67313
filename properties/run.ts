/* The command of the properties: `npm run properties -- agree --cases 1000 --seed 7`. */
import { join } from 'node:path';
import process from 'node:process';
import { Command, InvalidArgumentError, Option } from '@commander-js/extra-typings';
import { Presets, SingleBar } from 'cli-progress';
import { PROPERTIES } from './all.js';
import { keepCase, readCase } from './harness/cases.js';
import { SOURCES } from './harness/guards.js';
import type { Property } from './harness/property.js';
import { again, search } from './harness/search.js';
import { Servers } from './harness/servers.js';

function whole(text: string): number {
  if (!/^\d+$/.test(text)) throw new InvalidArgumentError('write a whole number.');
  return Number(text);
}

/** Where a case that is wrong is kept, until somebody looks at it. */
const fileOf = (property: string, variant: string, seed: number) => join(SOURCES, '../.cache/properties', `${property}-${variant}-${seed}.json`);

interface Options {
  readonly cases: number;
  readonly seed: number;
  readonly on: string;
  readonly shrink: boolean;
  readonly again?: string | undefined;
  readonly postgres?: string | undefined;
  readonly json?: boolean | undefined;
}

async function tryCase(property: Property, file: string, servers: Servers): Promise<boolean> {
  const kept = readCase(file);
  const opened = await property.open(servers, kept.variant);
  const sentence = await again(opened, kept.case);
  console.log(sentence ?? 'This case passes.');
  await opened.close();
  return sentence === undefined;
}

async function draw(property: Property, { cases, seed, on, shrink, json }: Options, servers: Servers): Promise<boolean> {
  const began = Date.now();
  const bar = new SingleBar({ format: `${property.name} on ${on}, seed ${seed} {bar} {value}/{total}, {duration_formatted}` }, Presets.shades_classic);
  bar.start(cases, 0);
  const opened = await property.open(servers, on);
  const wrong = await search(opened, { cases, seed, shrinks: shrink, progress: (done) => bar.update(done) });
  bar.stop();
  if (wrong) {
    const file = fileOf(property.name, on, seed);
    keepCase(file, { property: property.name, variant: on, class: 'unread', sentence: wrong.sentence, case: wrong.case });
    console.log(`${wrong.sentence}\nKept: npm run properties -- ${property.name} --again ${file.slice(SOURCES.length - 'src/'.length)}`);
  }
  const report = { property: property.name, variant: on, cases, seed, seconds: Math.round((Date.now() - began) / 1000), isWrong: wrong !== undefined };
  if (json) console.log(JSON.stringify({ ...report, tally: opened.tally() }));
  else {
    const tally = Object.entries(opened.tally()).map(([what, count]) => `${count} ${what}`);
    console.log(`${property.holds}\n${wrong ? 'One case is wrong' : `${cases} cases, none is wrong`}; seed ${seed}; ${tally.join(', ')}.`);
  }
  await opened.close();
  return wrong === undefined;
}

const program = new Command('properties').description('Draws cases and judges them. A case that is wrong is made small, printed and kept as a file.');
for (const property of Object.values(PROPERTIES))
  program
    .command(property.name)
    .description(property.holds)
    .option('--cases <number>', 'how many cases are drawn', whole, property.volume.usual)
    .option('--seed <number>', 'what the cases are drawn from', whole, Date.now() % 1_000_000_000)
    .addOption(new Option('--on <variant>', 'on what it is tried').choices(property.variants).default(property.variants[0]))
    .option('--no-shrink', 'leave a case that is wrong as it was drawn')
    .option('--again <file>', 'judge the case in this file, and draw none')
    .option('--postgres <address>', 'a PostgreSQL to do it on, in databases of its own there')
    .option('--json', 'print the result as a line of JSON')
    .action(async (options) => {
      const servers = new Servers(options.postgres);
      const isRight = options.again === undefined ? await draw(property, options as Options, servers) : await tryCase(property, options.again, servers);
      await servers.stop();
      process.exit(isRight ? 0 : 1);
    });

program
  .command('guards')
  .description('Lists the guards, each with the check that must notice when it is gone; with names or --by, takes them out, one after the other.')
  .argument('[names...]', 'guards that are taken out')
  .option('--by <check>', 'all guards of this check are taken out')
  .option('--seed <number>', 'what the checks draw from', whole, Date.now() % 1_000_000_000)
  .action(async (names, { by, seed }) => {
    const { allGuards, tryWithout } = await import('./harness/checks.js');
    const wanted = allGuards().filter(({ name, check }) => names.includes(name) || check === by);
    if (names.length === 0 && by === undefined) {
      for (const { name, check, sentence, places } of allGuards())
        console.log(`${check.padEnd(9)} ${name.padEnd(34)} ${sentence} (${places.map(({ file, line }) => `${file}:${line}`).join(', ')})`);
      return;
    }
    const servers = new Servers();
    const postgres = await servers.postgres();
    let missed = 0;
    for (const { name, check } of wanted) {
      const began = Date.now();
      const { isNoticed, output } = await tryWithout(check, name, { seed, postgres });
      if (!isNoticed) missed += 1;
      console.log(`${isNoticed ? 'noticed' : 'MISSED '} ${name} by ${check}, ${Math.round((Date.now() - began) / 1000)} s`);
      if (!isNoticed && names.length > 0) console.log(output.slice(-2000));
    }
    await servers.stop();
    console.log(`${wanted.length - missed} of ${wanted.length} noticed, seed ${seed}`);
    process.exit(missed === 0 ? 0 : 1);
  });

program
  .command('probed')
  .description('Which of the faults that are planted in whole applications the probe finds, as tables.')
  .argument('[what...]', 'lending, rules, lending-rules, apiary, choir, house, club, garden, machine, exchanged, slips, past; then names of faults')
  .action(async (what) => {
    const { scoreAll } = await import('./probed/run.js');
    await scoreAll(what);
    process.exit(0);
  });

await program.parseAsync();
