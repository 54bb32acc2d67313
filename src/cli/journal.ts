import { type Command, Option } from '@commander-js/extra-typings';
import pc from 'picocolors';
import { LintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';
import type { JournalEntry } from '../server/index.js';
import { readConfig, type Sources } from './config.js';
import { ofOwn } from './copy.js';
import { gridFor, markdown } from './grid.js';
import { findPerson, findRecord, findTenant, withDatabase } from './look.js';
import { formatOption, withSources } from './options.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface JournalOptions extends Sources {
  readonly tenant?: string | undefined;
  readonly of?: string | undefined;
  readonly limit: string;
  readonly trim?: true | undefined;
  readonly format: 'text' | 'json' | 'md';
}

const written = (value: unknown) => (value === null ? '–' : String(value));

/** What was done, by field: `name: Amber hive → Amber`. */
function changesOf(charter: Charter<any>, { kind, fields, erased, what }: JournalEntry): string {
  const { fields: known } = charter.kind(kind);
  const lines = Object.entries(fields).map(([field, { from, to }]) => {
    const label = known[field]?.label ?? field;
    return what === 'made' ? `${label}: ${written(to)}` : what === 'deleted' ? `${label}: ${written(from)}` : `${label}: ${written(from)} → ${written(to)}`;
  });
  return [...lines, ...erased.map((field) => `${field}: erased`)].join('\n');
}

async function journalCommand(about: readonly string[], options: JournalOptions, around: Surroundings): Promise<number> {
  const config = ofOwn(await readConfig(options, around.cwd));
  const { charter } = config;
  const [kind, record] = about;
  if (kind !== undefined && record === undefined) throw new LintelError('no-record', 'say of which record: a kind, and its id or what it is called', {});
  if (kind !== undefined) charter.kind(kind);
  return withDatabase(config, async (lintel) => {
    if (options.trim) {
      around.out(`${await lintel.trimJournal()} lines were older than the charter keeps them.`);
      return EXIT.yes;
    }
    const tenant = await findTenant(lintel, options.tenant, options.of, { kind, record });
    const { journal } = await tenant.onlooker();
    const part = { limit: Number(options.limit) };
    const { items, next } =
      kind !== undefined && record !== undefined
        ? await journal(kind, await findRecord(tenant, kind, record), part)
        : await (options.of === undefined ? journal.recent(part) : journal.of(await findPerson(tenant, options.of), part));
    if (options.format === 'json') around.out(JSON.stringify({ items, ...(next !== undefined && { next }) }, null, 2));
    else if (items.length === 0) around.out('Nothing was put down.');
    else {
      const rows = items.map((entry) => [
        `${entry.at.toISOString().slice(0, 16).replace('T', ' ')}Z`,
        entry.by ? `${entry.by.name}${entry.for ? ` for ${entry.for.name}` : ''}` : 'past the library',
        `${entry.what}\n${charter.kind(entry.kind).one} ${entry.label ?? entry.record}`,
        changesOf(charter, entry),
      ]);
      const heads = ['when', 'who', 'what', 'fields'];
      around.out(options.format === 'md' ? markdown(heads, rows) : gridFor(around, heads, rows));
      if (next !== undefined && options.format === 'text') around.out(pc.createColors(around.colours).dim('There is more: --limit.'));
    }
    return EXIT.yes;
  });
}

/** `journal`: what was done to records. */
export function addJournalCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  withSources(
    program.command('journal').description('Lists what was done to records: to one, by somebody, or lately; who, when, and which fields from what to what.'),
  )
    .argument('[about...]', 'a kind, and a record of it by id, by what it is called, or by its address in the browser')
    .option('--of <person>', 'what somebody did')
    .addOption(new Option('--limit <number>', 'how many of the latest, at most 200').default('20'))
    .option('--trim', 'drop what is older than the charter keeps it')
    .addOption(formatOption())
    .addHelpText(
      'after',
      '\nExamples:\n  lintel journal hive "Amber hive" --tenant alderbrook\n  lintel journal --of tobias\n\nExit codes: 0 answered, 2 not answered',
    )
    .action(async (about, options) => answered(await journalCommand(about, options, around)));
}
