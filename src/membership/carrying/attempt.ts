import { isLintelError } from '../../base/index.js';
import { everythingMet, type Facts } from '../../standing/index.js';
import { eachTakenBack } from '../change/index.js';
import { keyholdersOf, readFacts } from '../held/index.js';
import type { Setting, Step } from '../terms/index.js';
import { runSteps } from './run.js';

/**
 * What somebody would hold if steps had been taken by somebody who may all: each list of them is gone through by itself and taken back. Undefined where it cannot be.
 *
 * @param keyholder who may all in the tenant.
 */
export function attemptEach(
  setting: Setting,
  tenantId: string,
  keyholder: string,
  many: readonly (readonly Step[])[],
  user: string,
): Promise<(Facts | undefined)[]> {
  const fulfilled = everythingMet(setting.charter);
  return eachTakenBack(setting, tenantId, keyholder, many, async (change, steps) => {
    try {
      await runSteps(change, steps);
      return await readFacts(change.tx, setting.charter, { tenant: tenantId, user, fulfilled, now: setting.now() });
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
