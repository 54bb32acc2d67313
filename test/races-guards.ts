import type { Planted } from './scope-guards.js';

const OVERTAKEN = ['base/transaction.ts', "new Set<unknown>(['23505', '23503'])", 'new Set<unknown>()'] as const;

/** What two at once would break: a lock left out or taken in another order, or a check that is asked too early. What is held twice is taken out twice. */
export const RACES_GUARDS: readonly Planted[] = [
  ['the last of full control is not looked for', 'membership/change/change.ts', '    await insistOnKeyholder(change);\n', ''],
  [
    'the platform is locked before whom it changes',
    'membership/coming/care.ts',
    "[platform, ...(typeof tenants === 'function' ? await tenants(tx) : tenants)]",
    '[platform]',
    'base/transaction.ts',
    'const MOST = 6;',
    'const MOST = 1;',
  ],
  ['a change within a change takes the same number', 'membership/change/change.ts', 'isNext ? change', 'change ? change'],
  ['a tenant is not locked', 'membership/terms/locks.ts', ' order by id for no key update', '', ...OVERTAKEN],
  ['whoever is erased is not locked', 'membership/terms/locks.ts', '.forUpdate()', '', ...OVERTAKEN],
  ['what gave way is not begun again', 'base/transaction.ts', 'const MOST = 6;', 'const MOST = 1;'],
  ['what another was faster with is shown as it comes', ...OVERTAKEN],
  [
    'an own transaction is told what the database says',
    'base/transaction.ts',
    'if (!canBeTriedAgain(error)) throw error;\n      if (isLintelError(error)) throw error;',
    'throw error;',
  ],
];
