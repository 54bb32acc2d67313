import type { Kysely } from 'kysely';
import type { PermissionEffect, Proposal, Reached } from '../membership/index.js';
import { ALWAYS, and, NEVER, type Predicate } from '../predicate/index.js';
import { type Boundary, countRecords, someRecords } from '../scoping/index.js';

/** Examples are looked for among so many effects on one kind. */
const MAX_EXAMPLES = 6;

/**
 * A proposal with its records counted, those that the person who asks may read; whoever may ask about everybody's access has all of them counted. One pass over the table of
 * each kind that it is about.
 */
export async function countEffects(db: Kysely<any>, boundary: Boundary, proposal: Proposal, reached: readonly Reached[]): Promise<Proposal> {
  const { standing } = boundary;
  const { charter, facts } = standing;
  const isWhole = standing.grantsFor('access.ask').some(({ reach }) => reach === 'tenant');
  const counted = new Map<string, PermissionEffect['records']>();
  const kindOf = ({ permission }: Reached) => charter.permission(permission).kind as string;
  for (const kind of new Set(reached.map(kindOf))) {
    const all = reached.filter((one) => kindOf(one) === kind);
    const readable = isWhole ? ALWAYS : standing.reachOf(`${kind}.read`);
    const asked = all.flatMap(({ was, becomes }) => [was ?? NEVER, becomes ?? NEVER].map((reach) => and(reach, readable)));
    const { counts } = await countRecords(db, charter.shapes, kind, facts.tenant.id, asked);
    const shown = all.filter(({ was, becomes }) => was && becomes).slice(0, MAX_EXAMPLES);
    const examples = await someRecords(
      db,
      boundary,
      kind,
      shown.map(({ was, becomes }) => [was as Predicate, becomes as Predicate]),
    );
    for (const [i, one] of all.entries()) {
      const { effect, permission, was, becomes } = one;
      const some = (examples[shown.indexOf(one)] ?? []).map(({ id, label }) => ({ id: String(id), label }));
      const records = { was: counts[2 * i] as number, becomes: counts[2 * i + 1] as number, examples: some };
      counted.set(JSON.stringify([effect, permission]), was && becomes ? records : null);
    }
  }
  const effects = proposal.effects.map((one, effect) => ({
    ...one,
    permissions: one.permissions.map((p) => {
      const records = counted.get(JSON.stringify([effect, p.permission]));
      return records === undefined ? p : { ...p, records };
    }),
  }));
  return { ...proposal, effects };
}
