import { LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import { heldTogether } from '../../standing/index.js';
import { courseDiffers, type Holding, momentsOf } from '../held/index.js';
import { type Change, heldBy } from './change.js';

/** @throws LintelError `apart`, naming the rule of the charter. */
export function refuseTogether(charter: Charter, name: string, who: string | undefined): never {
  const { sentence, hold } = charter.data.apart[name] as { sentence: string; hold: readonly string[] };
  throw new LintelError('apart', `${who ?? 'One person'} would hold together what is to be apart: ${sentence}`, { rule: name, hold });
}

/**
 * @param mayName of whom the error may speak by name.
 * @throws LintelError `apart` where somebody comes to hold together what is to be apart, now or later, and did not at that moment before.
 */
export function insistOnApart(before: ReadonlyMap<string, Holding>, after: ReadonlyMap<string, Holding>, mayName: (user: string) => boolean): void {
  for (const [userId, is] of after) {
    const was = before.get(userId);
    if (!courseDiffers(was, is)) continue;
    const [now, ...later] = momentsOf(was?.course, is.course);
    // guard apart-at-every-moment by attack: What is to be apart could come together later.
    for (const moment of [now as number, /* guard apart-at-every-moment */ ...later]) {
      const known = was ? heldTogether(was.charter, was.course.asIfFree(moment)) : [];
      const facts = is.course.asIfFree(moment);
      const broken = heldTogether(is.charter, facts).find((name) => !known.includes(name));
      if (broken !== undefined) refuseTogether(is.charter, broken, mayName(userId) ? facts.me.name : undefined);
    }
  }
}

/** The same for somebody who has just come in. */
export async function insistOnApartOf(change: Change, userId: string): Promise<void> {
  if (Object.keys(change.setting.charter.data.apart).length > 0)
    insistOnApart(new Map(), await heldBy(change, [userId]), (user) => user === change.actor.userId);
}
