import { LintelError } from '../../base/index.js';
import { keyholdersOf } from '../held/index.js';
import type { Change } from './change.js';

/** @throws LintelError `last-keyholder` when nobody with full control would be left. */
export async function insistOnKeyholder(change: Change): Promise<void> {
  const left = await keyholdersOf(change.tx, change.tenantId, change.at.getTime());
  if (left.length > 0) return;
  throw new LintelError('last-keyholder', `Somebody always holds full control of ${change.actor.facts.tenant.name}. Hand it to another member first.`, {});
}
