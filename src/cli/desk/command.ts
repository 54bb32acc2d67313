import { readFile } from 'node:fs/promises';
import { resolve } from 'node:path';
import type { Command } from '@commander-js/extra-typings';
import { LintelError } from '../../base/index.js';
import { probe } from '../../rehearsal/index.js';
import { readCharterFile, readConfig, type Sources } from '../config.js';
import { recordsIn, withDatabase } from '../look.js';
import { withSources } from '../options.js';
import { targetOf } from '../probe.js';
import type { Surroundings } from '../surroundings.js';
import type { DeskParts } from './answers.js';

interface DeskOptions extends Sources {
  readonly port: string;
  readonly before?: string | undefined;
  readonly rehearse?: string | undefined;
  readonly place?: string | undefined;
}

async function deskCommand(options: DeskOptions, around: Surroundings): Promise<void> {
  const port = Number(options.port);
  if (!Number.isInteger(port) || port < 0 || port > 65535) throw new LintelError('bad-port', `--port is "${options.port}"; give a number from 0 to 65535`, {});
  const config = await readConfig(options, around.cwd);
  const before = options.before === undefined ? undefined : await readCharterFile(resolve(around.cwd, options.before));
  const file = options.rehearse;
  const text = file === undefined ? undefined : await readFile(resolve(around.cwd, file), 'utf8').catch(() => undefined);
  if (file !== undefined && text === undefined) throw new LintelError('no-script', `There is no file ${file}.`, {});
  await withDatabase(config, async (lintel, db) => {
    const { probe: target, accepted } = config;
    const parts: DeskParts = {
      lintel,
      ...(before && { before }),
      ...(file !== undefined && text !== undefined && { script: { file, text } }),
      ...(accepted && { accepted }),
      ...(target && { probe: async () => probe(lintel, recordsIn(lintel, options.place), await targetOf(target, config, db, lintel)) }),
    };
    const { startDesk } = await import('./serve.js');
    const desk = await startDesk(parts, port);
    around.out(
      `The desk is open, for you alone and on this machine:\n\n  ${desk.link}\n\nThe link lets in once.${config.people ? ' It has the people of the application as they are now.' : ''} Stop with Ctrl+C.`,
    );
    await around.stopped?.();
    await desk.close();
  });
}

export function addDeskCommand(program: Command, around: Surroundings): void {
  withSources(
    program
      .command('desk')
      .description('A local page over the charter and the database: the table, why, who, remedies, people side by side, changes, review, rehearsal, probe.'),
  )
    .option('--port <port>', 'default: any that is free', '0')
    .option('--before <charter>', 'the charter as it was, to see what changed since')
    .option('--rehearse <file>', 'expectations in Markdown, to see what holds')
    .option('--place <name>', 'where records are in several places: the one whose organisations the probe tries')
    .addHelpText('after', '\nExample:\n  lintel desk --rehearse access.md --before before.json')
    .action(async (options) => {
      await deskCommand(options, around);
    });
}
