import { isLintelError } from '../base/index.js';
import type { Facts } from '../standing/index.js';
import { changeTenant, type Setting, takenBack } from './change.js';
import { readFacts } from './facts.js';
import { keyholdersOf } from './members.js';
import { runSteps } from './run.js';
import type { Step } from './step.js';

/**
 * What somebody would hold if steps had been taken by somebody who may all: they are gone through and taken back. Undefined where they cannot be.
 *
 * @param keyholder who may all in the tenant.
 */
export function attempt(setting: Setting, tenantId: string, keyholder: string, steps: readonly Step[], user: string): Promise<Facts | undefined> {
  return takenBack(setting.db, async (tx) => {
    try {
      return await changeTenant({ ...setting, db: tx }, tenantId, keyholder, async (change) => {
        await runSteps(change, steps);
        const facts = await readFacts(tx, setting.charter, {
          tenant: tenantId,
          user,
          fulfilled: Object.keys(setting.charter.data.obligations),
          now: setting.now(),
        });
        return { result: facts, entry: [] };
      });
    } catch (error) {
      if (isLintelError(error)) return undefined;
      throw error;
    }
  });
}

/** Somebody with full control of a tenant: there always is one. */
export async function someKeyholder({ db, now }: Setting, tenantId: string): Promise<string> {
  const [somebody] = await keyholdersOf(db, tenantId, now());
  return (somebody as { readonly id: string }).id;
}
