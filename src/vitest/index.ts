import { explain, reachBy } from '../rehearsal/index.js';
import type { ServerStanding } from '../server/index.js';
import { type Decision, inSentence, type Standing } from '../standing/index.js';

type Asked = Standing<any> | ServerStanding<any>;

interface Answer {
  readonly pass: boolean;
  readonly message: () => string;
}

/** A record as the application holds it, or its id: then it is loaded, which takes a standing from `enter`. */
async function decide(standing: Asked, action: string, record?: unknown): Promise<Decision> {
  if (record === undefined) return standing.decide(action);
  if (typeof record === 'object') return standing.decide(action, record as never);
  if ('decideById' in standing) return standing.decideById(action, record);
  throw new TypeError('toBeAllowed: an id is looked up in a database; give the record itself, or a standing from lintel.enter');
}

/** Why, in a few lines: the decision's reason, each grant that was looked at, and what failed of it. */
function because(standing: Asked, decision: Decision): string {
  const { who, reason, grants, readGrants } = explain(standing, decision, undefined);
  const label = inSentence(standing.charter.permission(decision.action).label);
  const on = decision.record?.label ? ` “${decision.record.label}”` : '';
  const lines = [...grants, ...readGrants].map(
    ({ holds, reach, by, failed }) => `  ${holds}: ${reachBy(reach, by)}${failed.length > 0 ? `; but ${failed.join(', ')}` : ''}`,
  );
  return [`${who.name} ${decision.allowed ? 'may' : 'may not'} ${label}${on}: ${reason}`, ...lines].join('\n');
}

/** Matchers about access, that fail with the reason: `expect.extend(accessMatchers)`. */
export const accessMatchers = {
  /** `expect(tobias).toBeAllowed('hive.update', hive)`: by this record or, with an id, by the one that is in the database. */
  async toBeAllowed(standing: Asked, action: string, record?: unknown): Promise<Answer> {
    const decision = await decide(standing, action, record);
    // What is not there is refused to everybody: it shows nothing. What another organisation has is refused to everybody here.
    if (decision.outcome === 'missing' && !(await (standing as ServerStanding).isOfAnother(action, record)))
      throw new TypeError(`toBeAllowed: there is no ${standing.charter.permission(action).kind} “${String(record)}” in ${standing.facts.tenant.name}`);
    return { pass: decision.allowed, message: () => because(standing, decision) };
  },

  /** `expect(tobias).toReach('hive.update', ['a-hive-01', …])`: these records, at most 1000, and no others. */
  async toReach(standing: ServerStanding<any>, action: string, ids: readonly unknown[]): Promise<Answer> {
    const { kind } = standing.charter.permission(action);
    if (kind === undefined) throw new TypeError(`toReach: ${action} is about no record`);
    const { idField } = standing.charter.shapes[kind] as { idField: string };
    const found = (await standing.find(kind, { may: [action], limit: 1000 })) as Record<string, unknown>[];
    const reached = found.filter((one) => (one.may as string[]).includes(action)).map((one) => String(one[idField]));
    const wanted = ids.map(String);
    const [more, less] = [reached.filter((id) => !wanted.includes(id)), wanted.filter((id) => !reached.includes(id))];
    const name = standing.facts.me.name ?? 'a visitor';
    const lines = [
      ...(more.length > 0 ? [`  and not expected: ${more.join(', ')}`] : []),
      ...(less.length > 0 ? [`  and does not reach: ${less.join(', ')}`] : []),
    ];
    return { pass: lines.length === 0, message: () => [`${name} reaches ${reached.length} by ${action}`, ...lines].join('\n') };
  },
};

declare module 'vitest' {
  interface Matchers<T> {
    /** A standing may do this; with a record, or the id of one, to it. Await it. */
    toBeAllowed(action: string, record?: unknown): Promise<T>;
    /** A standing reaches these records by an action, and no others. Await it. */
    toReach(action: string, ids: readonly unknown[]): Promise<T>;
  }
}
