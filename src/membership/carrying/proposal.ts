import { type Kysely, sql } from 'kysely';
import { hashOf, isLintelError, LintelError } from '../../base/index.js';
import { KEYHOLDER, restsOnRead } from '../../charter/index.js';
import { anyOf, forOneOf, isShort, type Predicate } from '../../predicate/index.js';
import { obligationOf, peopleReach, ruleOf, Standing } from '../../standing/index.js';
import { type Change, eachTakenBack, latestChange } from '../change/index.js';
import { changesOf, courseDiffers, type Holding, isKnown, listMark, momentsOf, type PersonChange, type Reading, standingInTenant } from '../held/index.js';
import type { Holdings } from '../steps/index.js';
import { type Handed, inOneSpelling, type LintelTables, type Setting, type Step, secretOf } from '../terms/index.js';
import { insistOnNeeds, runSteps } from './run.js';

/** Records of a kind that at least one of some people reaches, as counted at a moment. */
export interface RecordsReached {
  readonly was: number;
  readonly becomes: number;
  /** A few that come to be reached, or cease to be, and that the person who asks may read. */
  readonly examples: readonly { readonly id: string; readonly label: string | null }[];
}

/** What becomes of one permission of some people. Ways are words: `own`, `all in Orchard side`; an empty list is not at all. */
export interface PermissionEffect {
  readonly permission: string;
  readonly label: string;
  readonly was: readonly string[];
  readonly becomes: readonly string[];
  readonly change: 'gains' | 'loses' | 'differs';
  /** Null: not counted, since the reaches of so many people do not come down to a few conditions. Absent: it is about no records, or nobody asked. */
  readonly records?: RecordsReached | null;
}

/** People to whom the same happens. */
export interface Effect {
  readonly people: { readonly count: number; readonly some: readonly { readonly id: string; readonly name: string }[] };
  /** They come to hold full control, or cease to. */
  readonly fullControl?: 'gains' | 'loses';
  readonly permissions: readonly PermissionEffect[];
  /** ISO 8601. From this moment on, when something begins or ends by itself; absent: at once. */
  readonly from?: string;
  /** ISO 8601. Until something ends by itself; absent: for good. */
  readonly until?: string;
}

/** What a change would do, worked out without doing it. It is plain data: it can be sent, kept, and carried out later. */
export interface Proposal {
  readonly tenantId: string;
  readonly steps: readonly Step[];
  readonly reason?: string;
  /** ISO 8601. Counts are of this moment. */
  readonly at: string;
  /** Those to whom most people belong come first; at most 100. */
  readonly effects: readonly Effect[];
  /** People to whom something happens. */
  readonly people: number;
  /** Records that get another owner, as counted at that moment. Absent: none do. */
  readonly handed?: readonly Handed[];
  /** What stands against it. Empty: it can be carried out. */
  /** `obligation`: what has to be done first, where the code is `obligation-open`. */
  readonly problems: readonly { readonly code: string; readonly message: string; readonly obligation?: string }[];
  /** What it rests on. */
  readonly basis: { readonly latest: string; readonly charter: string; readonly exactly: string };
}

/** Everything that a group of people reaches by a permission before and after, for whoever counts; undefined: too long to be asked. */
export interface Reached {
  readonly effect: number;
  readonly permission: string;
  readonly was: Predicate | undefined;
  readonly becomes: Predicate | undefined;
}

const MAX_EFFECTS = 100;
const MAX_NAMED = 5;

/** What somebody holds at a moment, and what is the same for two people whose facts differ in nothing but who they are. */
interface Look extends Reading {
  readonly alike: string;
}

interface Happening {
  readonly userId: string;
  readonly before: Look | undefined;
  readonly after: Look | undefined;
  readonly changes: readonly PersonChange[];
  /** Milliseconds since 1970; absent: at once, and for good. */
  readonly from?: number;
  readonly until?: number;
}

function readingAt(held: Holding | undefined, moment: number): Look | undefined {
  if (!held) return undefined;
  const facts = held.course.at(moment);
  const { userId: _id, name: _name, ...me } = facts.me;
  const people = Object.entries(facts.people ?? {}).map(([key, list]) => [key, listMark(list)]);
  return { charter: held.charter, facts, alike: JSON.stringify({ ...facts, me, people }) };
}

/** What differs for whom, and from when until when. */
export function happenings(before: Holdings, after: Holdings): Happening[] {
  const known = new Map<string, PersonChange[]>();
  return [...new Set([...before.keys(), ...after.keys()])].sort().flatMap((userId) => {
    const [had, has] = [before.get(userId), after.get(userId)];
    if (!courseDiffers(had, has)) return [];
    const spans: Happening[] = [];
    for (const [i, moment] of momentsOf(had?.course, has?.course).entries()) {
      const [was, becomes] = [readingAt(had, moment), readingAt(has, moment)];
      const key = JSON.stringify([was?.alike, becomes?.alike]);
      const changes = known.get(key) ?? changesOf(was, becomes);
      known.set(key, changes);
      const last = spans.at(-1);
      if (last && sameChanges(last.changes, changes)) continue;
      if (last) spans[spans.length - 1] = { ...last, until: moment };
      spans.push({ userId, before: was, after: becomes, changes, ...(i > 0 && { from: moment }) });
    }
    return spans.filter(({ changes }) => changes.length > 0);
  });
}

const sameChanges = (a: readonly PersonChange[], b: readonly PersonChange[]) => a.length === b.length && a.every((one, i) => one.exactly === b[i]?.exactly);

/** The same for two looks at one tenant exactly if the same happens to the same people. */
function exactly(all: readonly Happening[]): string {
  return hashOf(all.map(({ userId, from, until, changes }) => JSON.stringify([userId, from, until, changes.map((one) => one.exactly)])));
}

const isKeyholder = (reading: Reading | undefined) => reading?.facts.subject === 'member' && reading.facts.assignments.some(({ role }) => role === KEYHOLDER);

function fullControl({ before, after }: Happening): 'gains' | 'loses' | undefined {
  const [was, becomes] = [isKeyholder(before), isKeyholder(after)];
  return was === becomes ? undefined : becomes ? 'gains' : 'loses';
}

/** People to whom the same happens, in words; those with most people first. */
function grouped(all: readonly Happening[]): Happening[][] {
  const groups = new Map<string, Happening[]>();
  for (const one of all) {
    const key = JSON.stringify([fullControl(one), one.from, one.until, one.changes.map(({ exactly: _, ...words }) => words)]);
    const group = groups.get(key);
    if (group) group.push(one);
    else groups.set(key, [one]);
  }
  return [...groups.values()].sort((a, b) => b.length - a.length);
}

function effectOf(group: readonly Happening[]): Effect {
  const [first] = group as [Happening];
  const { charter } = (first.after ?? first.before) as Reading;
  const control = fullControl(first);
  const some = group.slice(0, MAX_NAMED).map(({ userId, before, after }) => ({ id: userId, name: (after ?? before)?.facts.me.name ?? userId }));
  return {
    people: { count: group.length, some },
    ...(control && { fullControl: control }),
    ...(first.from !== undefined && { from: new Date(first.from).toISOString() }),
    ...(first.until !== undefined && { until: new Date(first.until).toISOString() }),
    permissions: first.changes.map(({ permission, was, becomes, gains, loses }) => ({
      permission,
      label: charter.permission(permission).label,
      was,
      becomes,
      change: gains && loses ? 'differs' : gains ? 'gains' : 'loses',
    })),
  };
}

/** True if who the person is plays a part in what they reach by a permission, so that it has to be worked out for each. */
function restsOnWho(standing: Standing, permission: string): boolean {
  const { charter } = standing;
  const { kind, action } = charter.permission(permission);
  const asked = restsOnRead(action) ? [permission, `${kind}.read`] : [permission];
  const rules = asked.flatMap((one) => standing.grantsFor(one).map((grant) => ruleOf(charter, kind as string, grant)));
  return /"me":"userId"|"op":"followed"/.test(JSON.stringify([rules, charter.limitsOf(kind as string).map(({ where }) => where)]));
}

/**
 * What at least one of these people reaches by a permission. For people alike it is worked out once: who they are plays no part in it, or stands in it in the
 * place of a list of them.
 */
function reachOfAny(standings: (reading: Reading) => Standing, readings: readonly (Look | undefined)[], permission: string): Predicate | undefined {
  const groups = new Map<string, Look[]>();
  for (const reading of readings) {
    if (!reading) continue;
    const group = groups.get(reading.alike);
    if (group) group.push(reading);
    else groups.set(reading.alike, [reading]);
  }
  const reached = anyOf(
    [...groups.values()].flatMap((alike) => {
      const standing = standings(alike[0] as Look);
      const first = standing.reachOf(permission);
      if (!restsOnWho(standing, permission)) return [first];
      const ids = alike.map(({ facts }) => facts.me.userId as string);
      const { kinds, limits } = standing.charter.data;
      // Somebody whom the charter itself names is not like the others.
      const named = JSON.stringify([kinds, limits]).includes(JSON.stringify(ids[0]));
      const together = named ? undefined : forOneOf(first, ids[0] as string, ids);
      return together ? [together] : alike.map((reading) => standings(reading).reachOf(permission));
    }),
  );
  return isShort(reached) ? reached : undefined;
}

/** Which records to count: of the first effects, each permission about records that exist. */
function toCount(groups: readonly (readonly Happening[])[]): Reached[] {
  const opened = new Map<Reading, Standing>();
  const standingOf = (reading: Reading) => {
    const standing = opened.get(reading) ?? new Standing(reading.charter, reading.facts);
    opened.set(reading, standing);
    return standing;
  };
  return groups.flatMap((group, effect) => {
    const [first] = group as [Happening];
    const { charter } = (first.after ?? first.before) as Reading;
    return first.changes.flatMap(({ permission }) => {
      const { kind, action } = charter.permission(permission);
      if (!kind || action === 'create') return [];
      const reach = (readings: readonly (Look | undefined)[]) => reachOfAny(standingOf, readings, permission);
      return [{ effect, permission, was: reach(group.map((one) => one.before)), becomes: reach(group.map((one) => one.after)) }];
    });
  });
}

/** The same again is not counted for more groups of people than this. */
const MAX_COUNTED = 10;

/** What was worked out, and what those whom it touches would hold. */
export interface Proposed {
  readonly proposal: Proposal;
  readonly reached: readonly Reached[];
  readonly after: ReadonlyMap<string, Reading>;
}

/**
 * Works out what steps would do, each list of them by itself, all of them from the same state: they are gone through in a transaction and taken back, so that nothing
 * is written, and what people hold is compared. What stands against them is told with it.
 */
export async function proposeEach(
  setting: Setting,
  tenantId: string,
  actorId: string,
  many: readonly (readonly Step[])[],
  reason?: string,
): Promise<Proposed[]> {
  // Whoever may not take a step is told so without that anybody waits for it.
  const actor = await standingInTenant(setting.db, setting, { tenant: tenantId, user: actorId, fulfilled: setting.fulfilled });
  const refusals = many.map((steps) => refusalOf(setting, actor, steps));
  const latest = await latestChange(setting.db, tenantId);
  const looked = await eachTakenBack(
    setting,
    tenantId,
    actorId,
    many.filter((_, i) => !refusals[i]),
    lookAhead,
  );
  return Promise.all(
    many.map((steps, i) => {
      const refused = refusals[i];
      const one = refused ? refusedAhead(steps, latest, refused) : (looked.shift() as Looked);
      return proposedOf(setting, tenantId, actorId, one, reason);
    }),
  );
}

/** What was seen by doing something and taking it back. */
export interface Looked {
  readonly steps: readonly Step[];
  /** The mark of the tenant's latest change before it. */
  readonly latest: string;
  readonly problems: readonly LintelError[];
  readonly happened: readonly Happening[];
  readonly after: Holdings;
  readonly known: (user: string) => boolean;
  readonly handed: readonly Handed[];
}

/** As it is told. */
export async function proposedOf(setting: Setting, tenantId: string, actorId: string, one: Looked, reason?: string): Promise<Proposed> {
  const at = new Date(setting.now()).toISOString();
  const told = one.happened.filter(({ userId }) => one.known(userId));
  const groups = grouped(told).slice(0, MAX_EFFECTS);
  const proposal: Proposal = {
    tenantId,
    steps: one.steps,
    ...(reason && { reason }),
    at,
    effects: groups.map(effectOf),
    people: new Set(told.map(({ userId }) => userId)).size,
    ...(one.handed.length > 0 && { handed: one.handed }),
    problems: one.problems.map(problemIn),
    basis: { latest: one.latest, charter: setting.charter.hash, exactly: await markOf(setting.db, [tenantId, actorId, at, one.latest], one.happened) },
  };
  const now = (id: string, held: Holding) => [id, readingAt(held, held.course.moments[0] as number) as Reading] as const;
  return { proposal, reached: toCount(groups.slice(0, MAX_COUNTED)), after: new Map([...one.after].map(([id, held]) => now(id, held))) };
}

function problemIn(error: LintelError): Proposal['problems'][number] {
  const { code, message } = error;
  const obligation = obligationOf(error);
  return { code, message, ...(obligation !== undefined && { obligation }) };
}

function refusalOf({ charter }: Setting, actor: Standing, steps: readonly Step[]): LintelError | undefined {
  try {
    for (const step of steps) insistOnNeeds({ actor }, inOneSpelling(charter, step));
    return undefined;
  } catch (error) {
    if (isLintelError(error)) return error;
    throw error;
  }
}

const NOTHING: Holdings = new Map();

async function lookAhead(change: Change, steps: readonly Step[]): Promise<Looked> {
  const { latest } = change;
  const problems: LintelError[] = [];
  try {
    const { done, before, after, known } = await runSteps(change, steps, { problems, reads: true });
    return { steps, latest, problems, happened: happenings(before, after), after, known, handed: done.flatMap((one) => one.handed ?? []) };
  } catch (error) {
    if (!isLintelError(error)) throw error;
    return refusedAhead(steps, latest, error);
  }
}

/** After the first refusal nothing more is said. */
const refusedAhead = (steps: readonly Step[], latest: string, error: LintelError): Looked => ({
  steps,
  latest,
  problems: [error],
  happened: [],
  after: NOTHING,
  known: () => false,
  handed: [],
});

/** @throws LintelError `proposal-stale` where a proposal would do something else now than it said. */
export async function insistOnSame(change: Change, { basis, tenantId, at }: Proposal, before: Holdings, after: Holdings): Promise<void> {
  if (tenantId !== change.tenantId) throw new LintelError('proposal-stale', 'This proposal is of another organisation. Propose it here.', {});
  const { tx, setting, actor } = change;
  const mark = await markOf(tx, [tenantId, actor.userId ?? '', at, basis.latest], happenings(before, after));
  if (basis.charter === setting.charter.hash && basis.exactly === mark) return;
  const changed = await changedSince(change, basis.latest);
  const words =
    basis.charter === setting.charter.hash ? changed.map(({ what, at }) => `${what} (${at})`).join(', ') || 'something is not as it was' : 'the charter';
  throw new LintelError('proposal-stale', `This would do something else now than when it was worked out: ${words}. Look at it again.`, { changed });
}

/** What is on record since, of that which the actor may read there. */
async function changedSince({ tx, tenantId, actor }: Change, latest: string) {
  if (!actor.may('audit.read')) return [];
  const known = peopleReach(actor, 'audit.read');
  const since = await tx
    .selectFrom('lintel_audit as a')
    .select(['a.number', 'a.at', 'a.actor', 'a.what'])
    .where('a.tenant_id', '=', tenantId)
    .where('a.number', '>', (eb) => eb.selectFrom('lintel_audit as b').select('b.number').where('b.tenant_id', '=', tenantId).where('b.hash', '=', latest))
    .where((eb) => eb.or([isKnown(known, tenantId, sql.ref('a.actor')), isKnown(known, tenantId, sql`(a.event ->> 'user')`)]))
    .orderBy('a.number')
    .limit(20)
    .execute();
  return since.map((one) => ({ ...one, number: Number(one.number), at: one.at.toISOString() }));
}

/** What a proposal is known by again: of all that happens, also of what it does not tell, and the same at no other time and for nobody else. */
async function markOf(db: Kysely<LintelTables>, of: readonly string[], happened: readonly Happening[]): Promise<string> {
  return hashOf([JSON.stringify([await secretOf(db), ...of, exactly(happened)])]);
}
