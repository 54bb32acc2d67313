import type { Command } from '@commander-js/extra-typings';
import { LintelError } from '../base/index.js';
import { pathWords } from '../rehearsal/index.js';
import { reachWord } from '../standing/index.js';
import { readConfig, type Sources } from './config.js';
import { answer } from './grid.js';
import { findRecord, findTenant, whoMay, withDatabase } from './look.js';
import { formatOption, withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface WhoOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly format: 'text' | 'json' | 'md';
}

async function whoCommand(action: string, record: string, options: WhoOptions, around: Surroundings): Promise<number> {
  const config = await readConfig(options, around.cwd);
  const { charter } = config;
  const permission = charter.permission(action);
  const { kind } = permission;
  if (kind === undefined) throw new LintelError('not-a-record-action', `"${action}" is about no kind of record; lintel gives ${action} says who has it`, {});
  return withDatabase(config, async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant, undefined, { kind, record });
    const id = await findRecord(tenant, kind, record);
    const people = await whoMay(tenant, action, id);
    const rows = people.flatMap(({ name, ways }) => ways.map((way, i) => [i === 0 ? name : '', reachWord(way.reach, permission), pathWords(charter, way)]));
    if (people.length === 0 && options.format === 'text') around.out(`Nobody may ${action} ${id}.`);
    else around.out(answer(around, options.format, people, [`who may ${action} ${id}`, 'how far', 'by'], rows));
    return EXIT.yes;
  });
}

export function addWhoCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(program.command('who').description('Who may do something to one record, each with every way by which it comes.'))
    .argument('<action>', 'for example hive.update')
    .argument('<record>', 'by id, by what it is called, or by its address in the browser')
    .addOption(formatOption())
    .addHelpText(
      'after',
      '\nExample:\n  lintel who hive.update "Bramble hive"\n  lintel who hive.update http://localhost:4173/t/alderbrook/hives/a-hive-02\n\nExit codes: 0 answered, 2 not answered',
    )
    .action(async (action, record, options) => {
      answered(await whoCommand(action, record, options, around));
    });
}
