import type { Command } from '@commander-js/extra-typings';
import { giversOf } from '../rehearsal/index.js';
import { readConfig, type Sources } from './config.js';
import { answer } from './grid.js';
import { findTenant, rolesIn, standingsOf, withDatabase } from './look.js';
import { formatOption, withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface GivesOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly format: 'text' | 'json' | 'md';
}

/** So many holders are named in one cell. */
const NAMED = 6;

async function givesCommand(permission: string, options: GivesOptions, around: Surroundings): Promise<number> {
  const { charter, ...config } = await readConfig(options, around.cwd);
  charter.permission(permission);
  return withDatabase({ charter, ...config }, async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant);
    const givers = giversOf(charter, permission, await rolesIn(tenant), await standingsOf(tenant));
    const rows = givers.map(({ by, reaches, holders }) => {
      const more = holders.length - NAMED;
      return [by, reaches.join(', '), holders.length === 0 ? 'nobody' : `${holders.slice(0, NAMED).join(', ')}${more > 0 ? ` and ${more} more` : ''}`];
    });
    around.out(answer(around, options.format, givers, [`what gives ${permission}`, 'how far', 'who has it by this'], rows));
    return EXIT.yes;
  });
}

export function addGivesCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(program.command('gives').description('What gives a permission: every role, group, unit, opening and single gift, and who has it by each.'))
    .argument('<action>', 'for example hive.update')
    .addOption(formatOption())
    .addHelpText('after', '\nExample:\n  lintel gives hive.update --tenant alderbrook\n\nExit codes: 0 answered, 2 not answered')
    .action(async (permission, options) => {
      answered(await givesCommand(permission, options, around));
    });
}
