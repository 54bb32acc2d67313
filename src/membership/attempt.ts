import { isLintelError } from '../base/index.js';
import type { Facts } from '../standing/index.js';
import { changeTenant, type Setting, takenBack } from './change.js';
import { readFacts } from './facts.js';
import { keyholdersOf } from './members.js';
import { runSteps } from './run.js';
import type { Step } from './step.js';

/**
 * What somebody would hold if steps had been taken by somebody who may all: each list of them is gone through by itself and taken back. Undefined where it cannot be.
 *
 * @param keyholder who may all in the tenant.
 */
export async function attemptEach(
  setting: Setting,
  tenantId: string,
  keyholder: string,
  many: readonly (readonly Step[])[],
  user: string,
): Promise<(Facts | undefined)[]> {
  if (many.length === 0) return [];
  const fulfilled = Object.keys(setting.charter.data.obligations);
  return changeTenant(setting, tenantId, keyholder, async (change) => {
    const all: (Facts | undefined)[] = [];
    for (const steps of many)
      all.push(
        await takenBack(change.tx, async (tx) => {
          await runSteps({ ...change, tx }, steps);
          return readFacts(tx, setting.charter, { tenant: tenantId, user, fulfilled, now: setting.now() });
        }).catch((error: unknown) => {
          if (isLintelError(error)) return undefined;
          throw error;
        }),
      );
    return { result: all, entry: [] };
  });
}

/** Somebody with full control of a tenant: there always is one. */
export async function someKeyholder({ db, now }: Setting, tenantId: string): Promise<string> {
  const [somebody] = await keyholdersOf(db, tenantId, now());
  return (somebody as { readonly id: string }).id;
}
