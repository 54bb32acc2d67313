import { LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import { heldTogether } from '../../standing/index.js';
import { type Reading, readFactsOf } from '../held/index.js';
import type { Change } from './change.js';

/** @throws LintelError `apart`, naming the rule of the charter. */
export function refuseTogether(charter: Charter, name: string, who: string | undefined): never {
  const { sentence, hold } = charter.data.apart[name] as { sentence: string; hold: readonly string[] };
  throw new LintelError('apart', `${who ?? 'One person'} would hold together what is to be apart: ${sentence}`, { rule: name, hold });
}

/** @throws LintelError `apart` where somebody comes to hold together what is to be apart, and did not before. */
export function insistOnApart(before: ReadonlyMap<string, Reading>, after: ReadonlyMap<string, Reading>): void {
  for (const [userId, { charter, facts }] of after) {
    const was = before.get(userId);
    const known = was ? heldTogether(was.charter, was.facts) : [];
    const broken = heldTogether(charter, facts).find((name) => !known.includes(name));
    if (broken !== undefined) refuseTogether(charter, broken, facts.me.name);
  }
}

/** The same for somebody who has just come in. */
export async function insistOnApartOf({ tx, tenantId, setting, at, actor }: Change, userId: string): Promise<void> {
  if (Object.keys(setting.charter.data.apart).length === 0) return;
  for (const facts of await readFactsOf(tx, setting.charter, tenantId, [userId], at.getTime())) {
    const charter = actor.charter.withRoles(facts.roles ?? {}) as Charter;
    const [broken] = heldTogether(charter, facts);
    if (broken !== undefined) refuseTogether(charter, broken, facts.me.name);
  }
}
