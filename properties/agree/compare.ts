import { readCharter } from 'warm-lintel';
import type { RecordData } from '../../src/predicate/index.js';
import { readValue } from '../../src/predicate/index.js';
import { type Answers, type Asked, ask, type Engine, type Touched } from './engines.js';
import type { Case, Draw, Row } from './generate.js';
import { type Outcome, view, WriteRules } from './memory.js';
import { Names, otherColumn, typed } from './typed.js';
import { columnFields, fieldsIn, KIND_NAMES, KINDS, type KindName } from './world.js';

interface Expected {
  readonly find: Record<string, Row[]>;
  readonly writes: readonly Outcome[];
  readonly links: readonly (boolean | undefined)[];
}

/** Cells in the one form that their type has, so that what differs in writing only is no difference. */
function normal(kind: KindName, row: Row, names: Names): Record<string, unknown> {
  const fields = Object.fromEntries(names.fields(kind));
  return Object.fromEntries(
    Object.entries(row).map(([name, raw]) => {
      const field = fields[name];
      if (!field || raw === null || raw === undefined) return [name, raw ?? null];
      if (field.role === 'people') return [name, (raw as unknown[]).map((one) => JSON.stringify(one)).sort()];
      return [name, readValue(field.type, field.type === 'boolean' && typeof raw === 'number' ? raw === 1 : raw, field.scale)];
    }),
  );
}

const linesOf = (names: Names) => (kind: KindName, rows: readonly Row[]) =>
  rows.map((row) => JSON.stringify(normal(kind, row, names), [...Object.keys(KINDS[kind].fields), 'may'].sort())).sort();
const masked = (kind: KindName, rows: readonly Row[]) => rows.map((row) => Object.fromEntries(columnFields(kind).map(([name]) => [name, row[name] ?? null])));

const idsIn = (rows: readonly Row[]) => rows.map((row) => String(row.id)).sort();

/** What writes past scope did that the rules do not let happen. */
function beyond({ raw = [] }: Answers, draw: Draw, rules: WriteRules, names: Names): string[] {
  return draw.raw.flatMap((one, i) => {
    const isLet = (touched: Touched) => {
      if ('user' in one) return rules.letsLink(one);
      if (touched === 'linked') return false;
      const { kind, before, after } = touched;
      return rules.lets(kind, before, after && asDrawn(names, kind, after, before));
    };
    return (raw[i] ?? []).filter((touched) => !isLet(touched)).map((touched) => `plain SQL ${JSON.stringify(one)}: lets be ${JSON.stringify(touched)}`);
  });
}

/** A row of a table with the values that it was drawn with, where they are the same but for how they are written. */
function asDrawn(names: Names, kind: KindName, row: Row, drawn: Row = {}): Row {
  const [is, was] = [normal(kind, row, names), normal(kind, drawn, names)];
  const isSame = (name: string) => JSON.stringify(is[name]) === JSON.stringify(was[name]);
  const fields = fieldsIn(kind).map(([name, { role }]) => [name, role === 'people' ? (drawn[name] ?? []) : isSame(name) ? drawn[name] : is[name]]);
  return Object.fromEntries(fields);
}

/** Where an engine and memory part: one line for each difference. */
function differences(engine: string, expected: Expected, got: Answers, draw: Draw, names: Names): string[] {
  const found = got.undeclared.map((what) => `${engine} lets a column be that nobody declared: ${what}`);
  const lines = linesOf(names);
  const compare = (what: string, a: readonly string[], b: readonly string[]) => {
    for (const line of a) if (!b.includes(line)) found.push(`${engine} ${what}: lacks ${line}`);
    for (const line of b) if (!a.includes(line)) found.push(`${engine} ${what}: has besides ${line}`);
    if (found.length === 0 && a.length !== b.length) found.push(`${engine} ${what}: ${b.length} rows instead of ${a.length}`);
  };
  for (const kind of KIND_NAMES) {
    const rows = expected.find[kind] as Row[];
    if (got.find) compare(`find ${kind}`, lines(kind, rows), lines(kind, got.find[kind] as Row[]));
    if (got.plain) compare(`plain SQL on ${kind}`, idsIn(rows), idsIn(got.plain[kind] as Row[]));
    if (got.masked?.[kind]) compare(`masked view of ${kind}`, lines(kind, masked(kind, rows)), lines(kind, masked(kind, got.masked[kind])));
    compare(`select ${kind}`, lines(kind, masked(kind, rows)), lines(kind, masked(kind, got.select[kind] as Row[])));
  }
  draw.writes.forEach((write, i) => {
    const [a, b] = [expected.writes[i] as Outcome, got.writes[i] as Outcome];
    const what = `write ${JSON.stringify(write)}`;
    if (a === 'refused' || b === 'refused') {
      if (a !== b) found.push(`${engine} ${what}: ${b === 'refused' ? 'is refused' : 'is done'}, memory: ${a === 'refused' ? 'refused' : 'done'}`);
      return;
    }
    compare(what, lines(write.kind, masked(write.kind, a.rows)), lines(write.kind, masked(write.kind, b.rows)));
    compare(`${what} returns`, a.returned.map(String).sort(), b.returned.map(String).sort());
  });
  expected.links.forEach((lets, i) => {
    if (got.links && lets !== undefined && got.links[i] !== lets)
      found.push(`${engine} ${JSON.stringify(draw.raw[i])} by name: is ${lets ? 'refused' : 'done'}, memory: ${lets ? 'done' : 'refused'}`);
  });
  return found;
}

/** Facts as one text in which the order of lists does not count. */
const unordered = (facts: object) => JSON.stringify(facts, (_key, value) => (Array.isArray(value) ? value.map((one) => JSON.stringify(one)).sort() : value));

export interface Compared {
  readonly found: readonly string[];
  /** The draws in which some records were seen, and not all. */
  readonly telling: number;
  /** Databases that did not take the charter over their columns. */
  readonly untaken: number;
  /** The first draw on which an engine and memory part. */
  readonly draw?: Draw;
}

/** All that the engines say otherwise than memory. */
export async function compareCase(engines: readonly Engine[], drawn: Case): Promise<Compared> {
  const asked = typed(drawn);
  const { names, draws } = asked;
  const charter = readCharter(asked.charter);
  // Those that share a database take turns.
  const shared = new Map<unknown, Promise<unknown>>();
  const told = await Promise.all(
    engines.map((engine) => {
      const answer = Promise.resolve(shared.get(engine.membership)).then(async () => ({ engine: engine.name, each: await ask(engine, charter, asked) }));
      shared.set(engine.membership, answer);
      return answer;
    }),
  );
  const answers = told.flatMap(({ engine, each }) => (each ? [{ engine, each }] : []));
  const all = draws.map((draw, i) => {
    const [first] = answers.map(({ each }) => each[i] as Asked) as [Asked];
    const me = first.standing.inMemory;
    const rules = new WriteRules(me, draw.data, names, (id) => first.others.get(id)?.inMemory);
    const expected = {
      find: view(names, me, draw.data),
      writes: draw.writes.map((write) => rules.outcome(write)),
      links: draw.raw.map((one) => ('user' in one ? rules.letsLinkByName(one) : undefined)),
    };
    const found = answers.flatMap(({ engine: name, each }) => {
      const { standing, answers: got } = each[i] as Asked;
      const facts = unordered(standing.facts) === unordered(first.standing.facts) ? [] : [`${name} reads other facts: ${JSON.stringify(standing.facts)}`];
      return [...facts, ...differences(name, expected, got, draw, names), ...beyond(got, draw, rules, names)];
    });
    const tells = KIND_NAMES.some((kind) => {
      const seen = expected.find[kind]?.length ?? 0;
      return seen > 0 && seen < draw.data[kind].length;
    });
    return { draw, found, tells };
  });
  const parted = all.find(({ found }) => found.length > 0);
  return {
    found: parted?.found ?? [],
    telling: all.filter(({ tells }) => tells).length,
    untaken: engines.length - answers.length,
    ...(parted && { draw: parted.draw }),
  };
}

/** A case in a few lines: only what a drawn charter says beyond the fields that all of them have, and one draw. */
export function linesOfCase({ types, sent, other, charter }: Case, draw: Draw): string {
  const shown = { types, sent, other: other && otherColumn(other, new Names(types)), charter: shortCharter(charter), ...draw };
  return Object.entries(shown)
    .filter(([, value]) => value !== undefined)
    .map(([name, value]) => `${name}: ${JSON.stringify(value)}`)
    .join('\n');
}

/** Only what a generated charter says beyond the fields that all of them have. */
function shortCharter({ kinds, ...rest }: any): RecordData {
  const short = Object.entries<any>(kinds).map(([name, kind]) => {
    const fields = Object.entries<any>(kind.fields).filter(([, f]) => f.change ?? f.read ?? f.follow === false);
    return [
      name,
      { reaches: kind.reaches, base: kind.base, fields: Object.fromEntries(fields.map(([f, { change, read, follow }]) => [f, { change, read, follow }])) },
    ];
  });
  return { kinds: Object.fromEntries(short), ...rest };
}
