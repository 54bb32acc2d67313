import type { Command } from '@commander-js/extra-typings';
import { readConfig, type Sources } from './config.js';
import { answer } from './grid.js';
import { findTenant, withDatabase } from './look.js';
import { formatOption, withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface DirectoryOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly format: 'text' | 'json' | 'md';
}

async function directoryCommand(options: DirectoryOptions, around: Surroundings): Promise<number> {
  return withDatabase(await readConfig(options, around.cwd), async (lintel) => {
    const all = await (await (await findTenant(lintel, options.tenant)).onlooker()).tenant.directories();
    if (options.format === 'json') {
      around.out(JSON.stringify(all, null, 2));
      return EXIT.yes;
    }
    if (all.length === 0) {
      around.out('No directory has brought anybody. One writes with the key of a program that may directory.write.');
      return EXIT.yes;
    }
    for (const { name, users, active, arrived, groups, unknown } of all) {
      around.out(`${name}: ${users} people, of whom ${active} are active and ${arrived} have come in.`);
      const rows = groups.map((group) => [group.name, String(group.people), group.roles === 0 ? 'no role is given to it' : String(group.roles)]);
      if (rows.length > 0) around.out(answer(around, options.format, undefined, ['group', 'people', 'roles'], rows));
      if (unknown.length > 0) around.out(`Not known here, and kept out: ${unknown.join(', ')}`);
    }
    return EXIT.yes;
  });
}

/** `directory`: what directories have brought, and what of it is not known here. */
export function addDirectoryCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program.command('directory').description('Shows what directories have brought by SCIM: people, groups with their roles, and what is not known here.'),
  )
    .addOption(formatOption())
    .addHelpText('after', '\nExample:\n  lintel directory --tenant alderbrook\n\nExit codes: 0 answered, 2 not answered')
    .action(async (options) => {
      answered(await directoryCommand(options, around));
    });
}
