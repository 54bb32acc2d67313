import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { LintelError } from '../base/index.js';
import type { AuditEvent } from '../server/index.js';
import { readConfig, type Sources } from './config.js';
import { ofOwn } from './copy.js';
import { gridFor, HELD, heldRows } from './grid.js';
import { findPerson, findTenant, withDatabase } from './look.js';
import { withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface AuditOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly verify?: true | undefined;
  readonly head?: string | undefined;
  readonly export?: 'jsonl' | 'csv' | undefined;
  readonly held?: string | undefined;
  readonly on?: string | undefined;
  readonly limit: string;
}

const WHY = {
  missing: 'is missing',
  altered: 'was altered',
  'not linked': 'does not follow on the one before it',
  'words altered': 'has other words beside it than were put on record',
  'words deleted': 'has no words beside it, and no later event says that they were erased',
  'tail cut': 'and what followed were cut off',
  'head unknown': 'and what followed were cut off or written anew: the hash that was kept is not among them',
} as const;

const CSV_COLUMNS = ['number', 'at', 'actor', 'what', 'event', 'words', 'hash'];

/** Cells that a spreadsheet would run as a formula begin with an apostrophe. */
async function csvLines(): Promise<(row: readonly string[]) => string> {
  const { stringify } = await import('csv-stringify/sync');
  return (row) => stringify([row as string[]], { escape_formulas: true, record_delimiter: '\r\n' }).replace(/\r\n$/, '');
}

function cellsOf({ number, at, actor, what, event, words, hash }: AuditEvent): string[] {
  return [String(number), at.toISOString(), actor ?? '', what, JSON.stringify(event), words === null ? '' : JSON.stringify(words), hash];
}

export function readDay(text: string): Date {
  const day = new Date(/^\d{4}-\d\d-\d\d$/.test(text) ? `${text}T23:59:59.999Z` : text);
  if (Number.isNaN(day.getTime())) throw new LintelError('bad-day', `“${text}” is no day; write it as 2026-06-30, or with a time as 2026-06-30T12:00:00Z`, {});
  return day;
}

async function auditCommand(options: AuditOptions, around: Surroundings): Promise<number> {
  return withDatabase(ofOwn(await readConfig(options, around.cwd)), async (lintel) => {
    const tenant = await findTenant(lintel, options.tenant);
    const { audit } = await tenant.onlooker();
    const colours = pc.createColors(around.colours);
    if (options.verify) {
      const { events, head, erased, broken } = await audit.verify(options.head);
      if (broken) {
        around.out(`${colours.red(`Event ${broken.number} ${WHY[broken.why]}.`)} ${events} before it hold.`);
        return EXIT.refused;
      }
      around.out(`${events} events hold, each on the one before it.${erased > 0 ? ` The words of ${erased} were erased.` : ''}\nhead ${head}`);
      return EXIT.yes;
    }
    if (options.held !== undefined) {
      const user = await findPerson(tenant, options.held);
      const { line, permissions, subject, charter } = await audit.heldThen(user, readDay(options.on ?? new Date().toISOString()));
      const rows = heldRows(permissions, lintel.charter);
      around.out([`${user}, ${subject}: ${line}`, gridFor(around, HELD, rows), colours.dim(`under the charter ${charter.slice(0, 12)}`)].join('\n'));
      return EXIT.yes;
    }
    if (options.export) {
      const csv = options.export === 'csv' ? await csvLines() : undefined;
      if (csv) around.out(csv(CSV_COLUMNS));
      for await (const event of audit.all()) around.out(csv ? csv(cellsOf(event)) : JSON.stringify(event));
      return EXIT.yes;
    }
    const events = await audit.list({ limit: Number(options.limit) });
    const names = new Map(tenant.members.map(({ id, name }) => [id, name]));
    const rows = events.map(({ number, at, actor, what, event, words }) => {
      const who = actor === null ? '' : (names.get(actor) ?? actor);
      const details = [JSON.stringify(event), ...(words?.reason ? [`“${words.reason}”`] : [])].join('\n');
      return [String(number), `${at.toISOString().slice(0, 19)}Z`, who, what, details];
    });
    around.out(gridFor(around, ['', 'when', 'who', 'what', ''], rows));
    return EXIT.yes;
  });
}

/** `audit`: the record of changes read, verified, exported, and asked about a day. */
export function addAuditCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program.command('audit').description('Reads the record of changes: the latest, all of it as a file, whether it is whole, and what somebody held on a day.'),
  )
    .option('--verify', 'go through the chain of hashes')
    .option('--head <hash>', 'with --verify: the head that an earlier look printed; a tail that was cut off shows by it')
    .addOption(new Option('--export <format>', 'all events, the oldest first').choices(['jsonl', 'csv'] as const))
    .option('--held <person>', 'what a person held, worked out from the record alone')
    .option('--on <day>', 'with --held: on which day')
    .option('--limit <number>', 'how many of the latest', '20')
    .addHelpText('after', '\nExamples:\n  lintel audit --verify --tenant alderbrook\n  lintel audit --held tobias --on 2026-06-30')
    .action(async (options) => answered(await auditCommand(options, around)));
}
