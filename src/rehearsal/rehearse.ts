import { isLintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';
import { explain, reachBy } from '../explaining/index.js';
import { inSentence, type Standing, wayWords } from '../standing/index.js';
import { meaningsOf } from './meanings.js';
import { type Actor, type ExpectedAnswer, type ExpectedPlace, type ExpectedReach, nameOf, PLACES, type Script } from './script.js';

/** One expectation, and whether it held. */
export interface Outcome {
  /** `Tobias Renn: hive.update`. */
  readonly name: string;
  /** The line of the file in which it stands. */
  readonly line: number;
  readonly held: boolean;
  /** What is so instead, as a sentence. Empty where it held. */
  readonly words: string;
}

/** Those of whom something can be expected. */
export interface Stage {
  readonly charter: Charter<any>;
  /** A person of the tenant by id, address or name. @throws LintelError for nobody of this name. */
  readonly person: (name: string) => Promise<Deciding>;
  /** Somebody made up who holds a role, by its id or label. @throws LintelError for no such role. */
  readonly role: (name: string) => Promise<Standing<any>>;
  readonly visitor: () => Promise<Deciding>;
  /** Everybody in the tenant: where it is given, whoever a script of all people does not name is told. */
  readonly members?: readonly { readonly id: string; readonly name?: string }[];
}

type Deciding = Standing<any> & {
  decideById(action: string, id: unknown): Promise<ReturnType<Standing['decide']>>;
  isOfAnother?(action: string, id: unknown): Promise<boolean>;
};

const actorOf = (stage: Stage, actor: Actor): Promise<Standing<any>> =>
  actor === 'visitor' ? stage.visitor() : 'person' in actor ? stage.person(actor.person) : stage.role(actor.role);
const list = (ways: readonly string[]) => (ways.length === 0 ? 'not at all' : ways.join(', '));

/** What somebody holds, by permission. */
type Held = ReadonlyMap<string, ReturnType<Standing['describe']>['permissions'][number]['ways']>;

const heldBy = (standing: Standing<any>): Held => new Map(standing.describe().permissions.map(({ permission, ways }) => [permission, ways]));

async function reachOf(stage: Stage, { actor, action, ways, line }: ExpectedReach, known: Map<Standing<any>, Held>): Promise<Outcome> {
  const standing = await actorOf(stage, actor);
  const held = known.get(standing) ?? heldBy(standing);
  known.set(standing, held);
  const found = wayWords(held.get(action) ?? [], stage.charter.permission(action));
  const same = [...found].sort().join('\n') === [...ways].sort().join('\n');
  const name = `${nameOf(actor)}: ${action}`;
  return { name, line, held: same, words: same ? '' : `${name} reaches ${list(found)}, and was to reach ${list(ways)}` };
}

async function answerOf(stage: Stage, { actor, action, may, record, line }: ExpectedAnswer): Promise<Outcome> {
  const standing = await (actor === 'visitor' ? stage.visitor() : stage.person((actor as { person: string }).person));
  const { kind } = stage.charter.permission(action);
  const decision = record === undefined || kind === undefined ? standing.decide(action) : await standing.decideById(action, record);
  const name = `${nameOf(actor)} ${may ? 'may' : 'may not'} ${action}${record === undefined ? '' : ` ${record}`}`;
  // A record that is not there is refused to everybody: to expect that would hold whatever the charter says.
  if (decision.outcome === 'missing') {
    const isOfAnother = await standing.isOfAnother?.(action, record);
    if (isOfAnother && !may) return { name, line, held: true, words: '' };
    const words = isOfAnother ? `${kind} “${record}” is another organisation's` : `there is no ${kind} “${record}” here, so nothing is shown by it`;
    return { name, line, held: false, words };
  }
  if (decision.allowed === may) return { name, line, held: true, words: '' };
  const names = new Map((stage.members ?? []).map(({ id, name = id }) => [id, name]));
  const { reason, grants } = explain(standing, decision, undefined, { names });
  const what = `${inSentence(stage.charter.permission(action).label)}${decision.record?.label ? ` “${decision.record.label}”` : ''}`;
  const by = grants.filter(({ holds }) => holds === 'yes').map(({ reach, by: how }) => reachBy(reach, how));
  const failed = grants.flatMap((grant) => grant.failed);
  const because = decision.allowed ? by.join('; ') : [reason, ...failed].join('; ');
  return { name, line, held: false, words: `${nameOf(actor)} ${decision.allowed ? 'may' : 'may not'} ${what}: ${because}` };
}

async function placeOf(stage: Stage, { actor, where, ids, line }: ExpectedPlace): Promise<Outcome> {
  const { facts } = await actorOf(stage, actor);
  const found = [...facts.me[PLACES[where]]].sort();
  const held = found.join('\n') === [...ids].sort().join('\n');
  const name = `${nameOf(actor)}: ${where}`;
  return { name, line, held, words: held ? '' : `${name} ${list(found)}, and was to be ${list(ids)}` };
}

/** What the words mean, each that the script names; and each word and each action that it does not name, for a script that names any word. */
function meant(charter: Charter<any>, { meanings: expected, reaches }: Script): Outcome[] {
  const [first] = expected;
  if (!first) return [];
  const now = meaningsOf(charter);
  const named = new Set(expected.map(({ rule }) => rule));
  const told = expected.map(({ rule, means, line }): Outcome => {
    const found = now.get(rule);
    const words = found === means ? '' : found === undefined ? `${rule} is gone; it meant: ${means}` : `${rule} means: ${found}; and was to mean: ${means}`;
    return { name: rule, line, held: words === '', words };
  });
  const fresh = [...now].filter(([rule]) => !named.has(rule));
  const actions = new Set(reaches.map(({ action }) => action));
  const unasked = [...charter.permissions.values()].filter(({ name: action }) => !actions.has(action));
  const besides = [
    ...fresh.map(([rule, means]) => [rule, `${rule} is new; it means: ${means}`] as const),
    ...unasked.map(({ name: action, label }) => [action, `${action} (${label}) is new: nothing is expected of it`] as const),
  ];
  return [...told, ...besides.map(([name, words]) => ({ name, line: first.line, held: false, words }))];
}

/** Members who stand in no table, for a script that says of people where they are. */
async function newcomers({ reaches, places }: Script, stage: Stage): Promise<Outcome[]> {
  const [first] = places;
  const { members } = stage;
  if (!first || !members) return [];
  const named = new Set<string | undefined>();
  for (const name of new Set([...reaches, ...places].flatMap(({ actor }) => (actor !== 'visitor' && 'person' in actor ? [actor.person] : [])))) {
    // Of a name that nobody has it is told elsewhere.
    const standing = await stage.person(name).catch((error: unknown) => {
      if (!isLintelError(error)) throw error;
    });
    named.add(standing?.userId);
  }
  const outcomes: Outcome[] = [];
  for (const { id } of members) {
    if (named.has(id)) continue;
    const standing = await stage.person(id);
    const { name = id } = standing.facts.me;
    outcomes.push({ name, line: first.line, held: false, words: `${name} is new, a member of whom nothing is expected (${standing.describe().line})` });
  }
  return outcomes;
}

/** Holds what a script expects against what is so. Somebody or something that does not exist is an expectation that does not hold. */
export async function rehearse(script: Script, stage: Stage): Promise<Outcome[]> {
  const outcomes: Outcome[] = [];
  const hold = async (line: number, actor: Actor, work: () => Promise<Outcome>) => {
    try {
      outcomes.push(await work());
    } catch (error) {
      if (!isLintelError(error)) throw error;
      outcomes.push({ name: nameOf(actor), line, held: false, words: error.message });
    }
  };
  const known = new Map<Standing<any>, Held>();
  for (const one of script.reaches) await hold(one.line, one.actor, () => reachOf(stage, one, known));
  for (const one of script.answers) await hold(one.line, one.actor, () => answerOf(stage, one));
  for (const one of script.places) await hold(one.line, one.actor, () => placeOf(stage, one));
  outcomes.push(...meant(stage.charter, script), ...(await newcomers(script, stage)));
  return outcomes.sort((a, b) => a.line - b.line);
}
