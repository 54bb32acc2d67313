import fc from 'fast-check';
import { readCharter } from 'warm-lintel';
import type { RecordData } from '../src/predicate/index.js';
import { readValue } from '../src/predicate/index.js';
import { type Answers, ask, type Engine } from './engines.js';
import { type Case, generated, type Row } from './generate.js';
import { type Outcome, view, WriteRules } from './memory.js';
import { columnFields, fieldsIn, KIND_NAMES, KINDS, type KindName } from './world.js';

interface Expected {
  readonly find: Record<string, Row[]>;
  readonly writes: readonly Outcome[];
}

/** Cells in the one form that their type has, so that what differs in writing only is no difference. */
function normal(kind: KindName, row: Row): Record<string, unknown> {
  const fields = Object.fromEntries(fieldsIn(kind));
  return Object.fromEntries(
    Object.entries(row).map(([name, raw]) => {
      const field = fields[name];
      if (!field || raw === null || raw === undefined) return [name, raw ?? null];
      if (field.role === 'people') return [name, [...(raw as string[])].sort()];
      return [name, readValue(field.type, field.type === 'boolean' && typeof raw === 'number' ? raw === 1 : raw, field.scale)];
    }),
  );
}

const lines = (kind: KindName, rows: readonly Row[]) =>
  rows.map((row) => JSON.stringify(normal(kind, row), [...Object.keys(KINDS[kind].fields), 'may'].sort())).sort();
const masked = (kind: KindName, rows: readonly Row[]) => rows.map((row) => Object.fromEntries(columnFields(kind).map(([name]) => [name, row[name] ?? null])));

const names = (rows: readonly Row[]) => rows.map((row) => String(row.id)).sort();

/** Where an engine and memory part: one line for each difference. */
function differences(engine: string, expected: Expected, got: Answers, drawn: Case): string[] {
  const found: string[] = [];
  const compare = (what: string, a: readonly string[], b: readonly string[]) => {
    for (const line of a) if (!b.includes(line)) found.push(`${engine} ${what}: lacks ${line}`);
    for (const line of b) if (!a.includes(line)) found.push(`${engine} ${what}: has besides ${line}`);
    if (found.length === 0 && a.length !== b.length) found.push(`${engine} ${what}: ${b.length} rows instead of ${a.length}`);
  };
  for (const kind of KIND_NAMES) {
    const rows = expected.find[kind] as Row[];
    if (got.find) compare(`find ${kind}`, lines(kind, rows), lines(kind, got.find[kind] as Row[]));
    if (got.plain) compare(`plain SQL on ${kind}`, names(rows), names(got.plain[kind] as Row[]));
    compare(`select ${kind}`, lines(kind, masked(kind, rows)), lines(kind, masked(kind, got.select[kind] as Row[])));
  }
  drawn.writes.forEach((write, i) => {
    const [a, b] = [expected.writes[i] as Outcome, got.writes[i] as Outcome];
    const what = `write ${JSON.stringify(write)}`;
    if (a === 'refused' || b === 'refused') {
      if (a !== b) found.push(`${engine} ${what}: ${b === 'refused' ? 'is refused' : 'is done'}, memory: ${a === 'refused' ? 'refused' : 'done'}`);
      return;
    }
    compare(what, lines(write.kind, masked(write.kind, a.rows)), lines(write.kind, masked(write.kind, b.rows)));
    compare(`${what} returns`, a.returned.map(String).sort(), b.returned.map(String).sort());
  });
  return found;
}

/** All that the engines say otherwise than memory on one case; and whether it told anything: some records were seen, and not all. */
export async function compareCase(engines: readonly Engine[], drawn: Case): Promise<{ readonly found: string[]; readonly tells: boolean }> {
  const charter = readCharter(drawn.charter);
  const found: string[] = [];
  let tells = false;
  for (const engine of engines) {
    let expected: Expected | undefined;
    const got = await ask(engine, charter, drawn, (standing, others) => {
      const rules = new WriteRules(standing, drawn.data, (id) => others.get(id));
      expected = { find: view(standing, drawn.data), writes: drawn.writes.map((write) => rules.outcome(write)) };
    });
    found.push(...differences(engine.name, expected as Expected, got, drawn));
    tells = KIND_NAMES.some((kind) => {
      const seen = got.select[kind]?.length ?? 0;
      return seen > 0 && seen < drawn.data[kind].length;
    });
  }
  return { found, tells };
}

export interface Report {
  readonly cases: number;
  /** Cases in which the person saw some records and not others: what makes the comparison worth something. */
  readonly telling: number;
  readonly counterexample?: string;
}

export interface AgreeOptions {
  readonly progress?: (done: number) => void;
  /** Default true: a counterexample is made as small as it gets. */
  readonly shrink?: boolean;
}

/** Compares many cases; stops at the first that differs, made as small as it gets. */
export async function agree(engines: readonly Engine[], cases: number, seed: number, options: AgreeOptions = {}): Promise<Report> {
  let [done, telling] = [0, 0];
  const result = await fc.check(
    fc.asyncProperty(generated, async (drawn) => {
      const { found, tells } = await compareCase(engines, drawn);
      if (tells) telling += 1;
      options.progress?.(++done);
      if (found.length > 0) throw new Error(found.slice(0, 6).join('\n'));
    }),
    { numRuns: cases, seed, endOnFailure: options.shrink === false },
  );
  if (!result.failed) return { cases, telling };
  const [smallest] = result.counterexample as [Case];
  const shown = { ...smallest, charter: shortCharter(smallest.charter) };
  return { cases, telling, counterexample: `${(result.errorInstance as Error | null)?.message ?? ''}\n${JSON.stringify(shown, null, 1)}` };
}

/** Only what a generated charter says beyond the fields that all of them have. */
function shortCharter({ kinds, ...rest }: any): RecordData {
  const short = Object.entries<any>(kinds).map(([name, kind]) => {
    const fields = Object.entries<any>(kind.fields).filter(([, f]) => f.change ?? f.read ?? f.follow === false);
    return [name, { reaches: kind.reaches, fields: Object.fromEntries(fields.map(([f, { change, read, follow }]) => [f, { change, read, follow }])) }];
  });
  return { kinds: Object.fromEntries(short), ...rest };
}
