import * as z from 'zod';
import type { Proposal } from '../server/index.js';
import { LARGE, listed, nothing, type Operations } from './operation.js';
import * as s from './schemas.js';

const why = z.string().max(500).optional();

/** What somebody who was refused asks for, and the answers. */
export const APPEALS = {
  raiseAppeal: {
    in: 'tenant',
    summary: 'Ask those who may change it for an action that was refused to me. The same again is asked once.',
    body: z.strictObject({ action: z.string().max(200), record: z.string().max(200), words: why }),
    answers: z.object({ id: z.string() }),
    run: async ({ standing, body: { action, record, words } }) => ({ id: await standing.appeals.raise(action, record, words) }),
  },
  myAppeals: {
    in: 'tenant',
    fresh: true,
    summary: 'What I asked for, the latest first, and how it stands',
    answers: listed(s.appeal),
    run: async ({ standing }) => ({ items: await standing.appeals.mine() }),
  },
  withdrawAppeal: {
    in: 'tenant',
    summary: 'Ask for it no longer',
    answers: nothing,
    run: async ({ standing, path }) => {
      await standing.appeals.withdraw(path.appeal as string);
      return {};
    },
  },
  listAppeals: {
    in: 'tenant',
    fresh: true,
    summary: 'What others ask for and I may answer, the longest waiting first',
    answers: listed(s.appeal.extend({ what: z.string(), record: z.string().nullable() })),
    run: async ({ standing }) => ({ items: await standing.appeals.list() }),
  },
  appealRemedies: {
    in: 'tenant',
    fresh: true,
    summary: 'What would allow what is asked for: each was tried, the least that it opens first',
    answers: s.remedies,
    run: async ({ standing, path }) => {
      const { decision, ...found } = await standing.appeals.remedies(path.appeal as string);
      return { allowed: decision.allowed, ...found };
    },
  },
  agreeToAppeal: {
    in: 'tenant',
    costs: 2,
    most: LARGE,
    summary: 'Carry one of its remedies out and tell whoever asked; without one, where it has come to be allowed meanwhile',
    body: z.strictObject({ proposal: s.proposal.optional(), change: z.strictObject({ field: z.string(), value: z.unknown() }).optional(), reason: why }),
    answers: nothing,
    run: async ({ standing, path, body: { proposal, change, reason } }) => {
      await standing.appeals.agree(path.appeal as string, { ...(proposal && { proposal: proposal as Proposal }), ...(change && { change }) }, reason);
      return {};
    },
  },
  declineAppeal: {
    in: 'tenant',
    summary: 'Say no, and tell whoever asked',
    body: z.strictObject({ reason: why }),
    answers: nothing,
    run: async ({ standing, path, body: { reason } }) => {
      await standing.appeals.decline(path.appeal as string, reason);
      return {};
    },
  },
} satisfies Operations;
