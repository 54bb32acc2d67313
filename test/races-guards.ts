import type { Planted } from './scope-guards.js';

/**
 * What two at once would break. A lock, or its order, is none of them: keys of the record and of people hold the same, and whoever was overtaken, or deadlocked, is begun again.
 */
export const RACES_GUARDS: readonly Planted[] = [
  ['the last of full control is not looked for', 'membership/change/change.ts', '    await insistOnKeyholder(change);\n', ''],
  ['a change within a change takes the same number', 'membership/change/change.ts', 'isNext ? change', 'change ? change'],
  ['what gave way is not begun again', 'base/transaction.ts', 'const MOST = 6;', 'const MOST = 1;'],
  ['what another was faster with is shown as it comes', 'base/transaction.ts', "new Set<unknown>(['23505', '23503'])", 'new Set<unknown>()'],
  [
    'an own transaction is told what the database says',
    'base/transaction.ts',
    'if (!canBeTriedAgain(error) || isLintelError(error)) throw error;',
    'throw error;',
  ],
];
