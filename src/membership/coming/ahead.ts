import type { Assignment } from '../../standing/index.js';
import type { Change } from '../change/index.js';
import { assignmentRows } from '../steps/index.js';
import { type Gives, madeUpId, readAddress, type Step, takenBack } from '../terms/index.js';
import { giveMore, onlyGives } from './gives.js';
import { joinTenant } from './tenants.js';

/** Somebody is a member, to be looked at and taken back. */
async function comeIn(change: Change, id: string, name: string, roles: readonly Assignment[]): Promise<string> {
  await change.tx.insertInto('lintel_person').values({ id, name, address: id, address_written: id }).execute();
  await joinTenant(change.tx, change.tenantId, id, change.at, await assignmentRows(change, roles));
  return id;
}

/** What is given besides roles may be given: it is tried on somebody whom there is not, and taken back. */
export async function insistOnMore(change: Change, roles: readonly Assignment[], gives: Gives): Promise<void> {
  if (Object.keys(gives).length === 0) return;
  await takenBack(change.tx, async (tx) => {
    const inside = { ...change, tx };
    await giveMore(inside, change.giver, await comeIn(inside, madeUpId(), 'somebody', roles), gives);
  });
}

/** Who would be a member by what these steps send or hand them: put among the members under ids of their own, to be looked at and taken back. */
export async function asIfAccepted(change: Change, steps: readonly Step[]): Promise<string[]> {
  const ids: string[] = [];
  for (const step of steps) {
    // An id that was given is among those who are looked at already.
    if (step.do !== 'invite' && step.do !== 'expect' && (step.do !== 'enrol' || step.id !== undefined)) continue;
    const { normal, written } = readAddress(step.address);
    const id = `${step.do === 'enrol' ? 'enrolled' : 'invited'}:${normal}`;
    ids.push(await comeIn(change, id, step.do === 'enrol' ? step.name : written, step.roles));
    if (step.do !== 'enrol') await giveMore(change, change.giver, id, onlyGives(step));
  }
  return ids;
}
