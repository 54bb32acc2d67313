/* Which database does what, as the code has it: the table of the guide's page on databases, which a test holds against this. */
import { Kysely, MysqlDialect, PostgresDialect, SqliteDialect } from 'kysely';
import { name, writerFor } from '../src/scoping/index.js';
import { AGGREGATES, FUNCTIONS } from '../src/scoping/language/functions.js';
import { OPERATORS } from '../src/scoping/language/operators.js';
import { FITTING } from '../src/store/check.js';
import { FITTING_IN_MARIADB } from '../src/store/mariadb.js';

const unused = {} as never;
const ENGINES = {
  'PostgreSQL, PGlite': new Kysely<any>({ dialect: new PostgresDialect({ pool: unused }) }),
  SQLite: new Kysely<any>({ dialect: new SqliteDialect({ database: unused }) }),
  MariaDB: new Kysely<any>({ dialect: new MysqlDialect({ pool: unused }) }),
};
type Writer = ReturnType<typeof writerFor>;

const code = (words: readonly string[]) => words.map((one) => `\`${one.replaceAll('|', '\\|')}\``).join(', ');
const yes = (is: boolean) => (is ? 'yes' : 'no');
const columns = (type: keyof typeof FITTING) => (writer: Writer) =>
  ({ postgres: () => code(FITTING[type]), sqlite: () => 'any', mariadb: () => code(FITTING_IN_MARIADB[type]) })[writer.vocabulary]();
const missing = ({ vocabulary }: Writer) =>
  Object.entries({ ...FUNCTIONS, ...AGGREGATES, ...OPERATORS }).flatMap(([word, { notOn }]) =>
    vocabulary !== 'postgres' && notOn?.includes(vocabulary) ? [word] : [],
  );

/** What is told, and how it is found out of the code. */
const ROWS: Readonly<Record<string, (writer: Writer) => string>> = {
  'the membership': ({ vocabulary }) => (vocabulary === 'postgres' ? 'here' : 'in PostgreSQL or PGlite beside it'),
  'columns of a text': columns('text'),
  'of a uuid': columns('uuid'),
  'of an integer': columns('integer'),
  'of a decimal': columns('decimal'),
  'of an instant': columns('instant'),
  'of yes or no': columns('boolean'),
  'a list in a condition': (writer) => {
    const { length } = writer.writeList(name('x'), ['a', 'b', 'c'], { column: 'x', type: 'text' }).values;
    return length === 1 ? 'one parameter' : 'a parameter each';
  },
  'a write': ({ writesInside, answersWrites }) =>
    writesInside ? 'one statement' : answersWrites ? 'steps in one transaction' : 'steps in one transaction, which count what they reach',
  'an upsert': ({ answersWrites }) => (answersWrites ? 'by columns' : 'by columns, of rows that are given: looked for first'),
  'a write that begins with `with`': ({ answersWrites }) => yes(answersWrites),
  'what a write returns': () => 'as far as it may be read',
  'not there in queries': (writer) => code(missing(writer)) || '–',
  'the journal of records': ({ writesInside }) => (writesInside ? 'with the write, or by triggers' : 'with the write'),
  'row policies, trials in a look': ({ vocabulary }) => yes(vocabulary === 'postgres'),
  'the probe: two requests at once': (writer) => yes(writer.holdUp([]) !== undefined),
  'the probe: rows to the last digit': ({ vocabulary }) => yes(vocabulary === 'postgres'),
};

/** The table, in Markdown. */
export function engineTable(): string {
  const writers = Object.values(ENGINES).map((db) => writerFor(db, {}));
  const line = (cells: readonly string[]) => `| ${cells.join(' | ')} |`;
  return [
    line(['', ...Object.keys(ENGINES)]),
    line(['---', ...writers.map(() => '---')]),
    ...Object.entries(ROWS).map(([what, told]) => line([what, ...writers.map(told)])),
  ].join('\n');
}
