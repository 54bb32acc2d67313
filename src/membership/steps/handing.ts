import { LintelError } from '../../base/index.js';
import type { Handlers } from '../change/index.js';

/** Records are the application's: who owns them is changed by the rules of scope, in the transaction in which it goes on record. */
export const handingSteps: Handlers<'hand-over'> = {
  'hand-over': {
    needs: () => undefined,
    touches: () => ({}),
    run: async ({ tx, actor, setting }, { from, to, kinds }) => {
      if (actor.facts.subject !== 'member') throw new LintelError('not-found', 'There is no such page.', {});
      if (!setting.handOver)
        throw new LintelError('records-elsewhere', 'these records are in another database than the membership, so that no one transaction holds both', {});
      const handed = [];
      for (const kind of new Set(kinds)) {
        const { one, many } = setting.charter.kind(kind);
        const counts = await setting.handOver(tx, actor.facts, kind, from, to);
        handed.push({ kind, called: counts.handed === 1 ? one : many, from, to, ...counts });
      }
      const event = { from, to, kinds: Object.fromEntries(handed.map(({ kind, handed: count, left }) => [kind, { handed: count, left }])) };
      return { what: 'records handed over', event, handed };
    },
  },
};
