import * as z from 'zod';
import { fromBase64url, LintelError, toBase64url } from '../base/index.js';
import { withOurIds } from '../membership/index.js';
import { type HandReport, handRecords, type LineProblem, readOwnersFile, readPeopleFile, writePeopleFile } from '../provisioning/index.js';
import type { BringReport, Proposal, ServerStanding, Step } from '../server/index.js';
import { APPEALS } from './appeals.js';
import { ARRANGEMENT } from './arrangement.js';
import { ASKING } from './asking.js';
import { authzen } from './authzen.js';
import { evaluation, evaluations, verdict } from './authzen-schemas.js';
import { CONNECTIONS } from './connections.js';
import { LARGE, nothing, type Operations } from './operation.js';
import { PERSON } from './person.js';
import { PLATFORM } from './platform.js';
import * as s from './schemas.js';

const cursorOf = (place: object | undefined) => (place === undefined ? null : toBase64url(JSON.stringify(place)));

function placeOf<T extends z.ZodType>(schema: T, cursor: string | undefined): z.infer<T> | undefined {
  if (cursor === undefined) return undefined;
  try {
    return schema.parse(JSON.parse(fromBase64url(cursor)));
  } catch {
    throw new LintelError('bad-request', '`after` is no place in this list. Send the `next` of the page before.', {});
  }
}

/** One item more than asked shows whether there is another page. */
function page<I, P extends object>(items: readonly I[], limit: number, place: (item: I) => P): { items: readonly I[]; next: string | null } {
  const shown = items.slice(0, limit);
  const last = shown.at(-1);
  return { items: shown, next: items.length > limit && last !== undefined ? cursorOf(place(last)) : null };
}

const memberPlace = z.object({ name: z.string(), userId: z.string() });
const newestPlace = z.object({ since: z.coerce.date(), userId: z.string() });
const invitationPlace = z.object({ invitedAt: z.coerce.date(), id: z.string() });
/** What came of a list as CSV: with a mistake in it nothing was done. */
type FromLines<Report> = { readonly problems: readonly LineProblem[] } & Partial<Report>;
const SNAPSHOT_SECONDS = 15 * 60;

/** Nobody chooses from outside the id of a program, or of somebody who is enrolled. */
const fromOutside = ({ charter, facts }: ServerStanding<any>, steps: readonly Step[]) => withOurIds(charter, steps, [facts.tenant.id, facts.me.userId ?? '']);

export const OPERATIONS = {
  ...PERSON,
  standing: {
    in: 'tenant',
    fresh: true,
    summary: 'What I may do, for display: the facts about me alone, and how long they count',
    answers: z.object({ snapshot: z.looseObject({ expiresAt: z.string() }), line: z.string(), startsAt: z.string().nullable() }),
    run: async ({ standing }) => ({ snapshot: standing.snapshot(SNAPSHOT_SECONDS), line: standing.describe().line, startsAt: standing.startsAt() ?? null }),
  },
  listMembers: {
    in: 'tenant',
    summary: 'Members, by name or who came last first; all of them or those who are searched',
    query: s.membersAsked,
    answers: s.pageOf(s.member),
    run: async ({ standing, query: { after, limit, order, search } }) => {
      const place = order === 'name' ? placeOf(memberPlace, after) : placeOf(newestPlace, after);
      const members = await standing.members.list({ order, limit: limit + 1, ...(search !== undefined && { search }), ...(place && { after: place }) });
      return page(members, limit, ({ name, since, userId }) => (order === 'name' ? { name, userId } : { since, userId }));
    },
  },
  member: {
    in: 'tenant',
    summary: 'What a member holds, with every way by which it comes',
    answers: s.held,
    run: ({ standing, path }) => standing.members.held(path.user as string),
  },
  ...ARRANGEMENT,
  rules: {
    in: 'tenant',
    summary: 'Who may come in without an invitation, whether everybody has one role, what was chosen as a base, and what is asked of a sign-in',
    answers: z.object({ oneRole: z.boolean(), joining: s.joining, bases: z.record(z.string(), z.string()), demands: s.demands }),
    run: ({ standing }) => standing.tenant.rules(),
  },
  endLook: {
    in: 'tenant',
    summary: 'Look as oneself again',
    answers: nothing,
    run: async ({ standing, path }) => {
      await standing.endLook(path.look as string);
      return {};
    },
  },
  lookAs: {
    in: 'tenant',
    summary: 'Begin to look as somebody else; on record, changes nothing, ends after an hour',
    body: s.lookAs,
    answers: z.object({ id: z.string(), until: z.iso.datetime() }),
    run: ({ standing, body: { reason, ...as } }) => standing.lookAs(as, reason),
  },
  listAudit: {
    in: 'tenant',
    summary: 'The record of changes, the newest first; all of it, or what somebody did, what was done to somebody, or events of one sort',
    query: s.eventsAsked,
    answers: s.pageOf(s.auditEvent),
    run: async ({ standing, query: { after, limit, ...asked } }) => {
      const place = placeOf(z.object({ hash: z.string() }), after);
      return page(await standing.audit.list({ ...asked, limit: limit + 1, ...(place && { before: place.hash }) }), limit, ({ hash }) => ({ hash }));
    },
  },
  verifyAudit: {
    in: 'tenant',
    costs: 20,
    summary: 'Whether the record of changes is whole: the first event where the chain does not hold, and whether its tail was cut',
    query: z.object({ head: z.string().max(200).optional().describe('The hash that was the last at an earlier look') }),
    answers: s.auditVerdict,
    run: ({ standing, query: { head } }) => standing.audit.verify(head),
  },
  heldThen: {
    in: 'tenant',
    summary: 'What a member held at a moment that is over, under the charter of that day, from the record alone',
    query: z.object({ at: z.iso.datetime() }),
    answers: s.held,
    run: ({ standing, path, query: { at } }) => standing.audit.heldThen(path.user as string, new Date(at)),
  },
  handOver: {
    in: 'tenant',
    costs: 5,
    summary:
      'Hand records of one member over to another, by kind, in one transaction. By kind, how many were, and how many are left since I do not reach them.',
    body: z.strictObject({ from: s.id, to: s.id, kinds: z.array(s.id).min(1).max(100), reason: z.string().max(500).optional() }),
    answers: z.object({ kinds: z.record(z.string(), z.object({ handed: z.number(), left: z.number() })) }),
    run: async ({ standing, body: { from, to, kinds, reason } }) => ({ kinds: await standing.handOver(from, to, kinds, reason) }),
  },
  propose: {
    in: 'tenant',
    costs: 10,
    most: LARGE,
    summary: 'What changes would do: to whom, how far, on how many records, and what stands against it. Nothing is written.',
    body: s.change,
    answers: s.proposal,
    run: async ({ standing, body }) => ({ ...(await standing.propose(fromOutside(standing, body.steps as Step[]), body.reason)), steps: body.steps as Step[] }),
  },
  change: {
    in: 'tenant',
    costs: 2,
    most: LARGE,
    summary: 'Carry changes out, all or none; or a proposal, if it would do now what it said',
    takes: 'if-match',
    tries: true,
    body: z.union([s.change, s.proposal]),
    answers: z.object({ done: s.done }),
    run: async ({ standing, body, seen }) => {
      const steps = fromOutside(standing, body.steps as Step[]);
      const done = await standing.carryOut('basis' in body ? ({ ...body, steps } as Proposal) : steps, { reason: body.reason, seen });
      return { done: done.map(({ words: _, ...one }) => one) };
    },
  },
  peopleFile: {
    in: 'tenant',
    costs: 5,
    summary: 'The members as a list in CSV, as bringPeople takes it; cells are safe in a spreadsheet',
    answers: z.object({ csv: z.string() }),
    run: async ({ standing }) => ({ csv: await writePeopleFile(standing) }),
  },
  bringPeople: {
    in: 'tenant',
    costs: 20,
    most: LARGE,
    summary:
      'People from a list as CSV: members get what they do not have, others are invited with it. With a mistake in it nothing is done; `dryRun` says what would be.',
    body: z.strictObject({ csv: z.string().max(LARGE), dryRun: z.boolean().optional(), reason: s.name.optional() }),
    answers: s.brought,
    run: async ({ standing, body: { csv, dryRun, reason } }): Promise<FromLines<BringReport>> => {
      const { people, problems } = await readPeopleFile(csv, standing);
      if (problems.length > 0) return { problems };
      return { problems, ...(await standing.members.bring(people, { dryRun: dryRun === true, ...(reason && { reason }) })) };
    },
  },
  bringOwners: {
    in: 'tenant',
    costs: 20,
    most: LARGE,
    summary:
      'Whose records are from now on, from a list as CSV, each by the rules of handing over. With a mistake in it nothing is done; `dryRun` says what would be.',
    body: z.strictObject({ kind: s.id, csv: z.string().max(LARGE), dryRun: z.boolean().optional() }),
    answers: s.handed,
    run: async ({ standing, body: { kind, csv, dryRun } }): Promise<FromLines<HandReport>> => {
      const { records, problems } = await readOwnersFile(csv, standing, kind);
      if (problems.length > 0) return { problems };
      return { problems, ...(await handRecords(standing, kind, records, { dryRun: dryRun === true })) };
    },
  },
  listInvitations: {
    in: 'tenant',
    summary: 'Invitations, the newest first',
    query: s.paging,
    answers: s.pageOf(s.invitation),
    run: async ({ standing, query: { after, limit } }) => {
      const place = placeOf(invitationPlace, after);
      return page(await standing.invitations.list({ limit: limit + 1, ...(place && { after: place }) }), limit, ({ invitedAt, id }) => ({ invitedAt, id }));
    },
  },
  invite: {
    in: 'tenant',
    costs: 5,
    most: LARGE,
    summary: 'Invite people by address; each is answered for itself, in the same order',
    takes: 'idempotency-key',
    body: z.strictObject({ invitations: z.array(s.newInvitation).min(1).max(1000) }),
    answers: z.object({ answers: z.array(s.invited) }),
    run: async ({ standing, body, idempotencyKey }) => ({
      answers: await standing.invitations.send(body.invitations, idempotencyKey === undefined ? {} : { once: idempotencyKey }),
    }),
  },
  inviteAgain: {
    in: 'tenant',
    summary: 'Send an invitation again; the link before is dead',
    answers: z.object({ token: z.string().optional() }),
    run: ({ standing, path }) => standing.invitations.sendAgain(path.invitation as string),
  },
  withdraw: {
    in: 'tenant',
    summary: 'Withdraw an invitation',
    answers: nothing,
    run: async ({ standing, path }) => {
      await standing.invitations.withdraw(path.invitation as string);
      return {};
    },
  },
  who: {
    in: 'tenant',
    costs: 5,
    fresh: true,
    summary: 'Who may now do this to that record, and by which ways. A page may be empty and have a next one.',
    query: s.paging.extend({ action: z.string(), record: z.string() }),
    answers: s.pageOf(z.object({ userId: z.string(), name: z.string(), ways: s.ways })),
    run: async ({ standing, query: { action, record, after, limit } }) => {
      const place = placeOf(memberPlace, after);
      const { people, next } = await standing.who(action, record, { limit, ...(place && { after: place }) });
      return { items: people, next: cursorOf(next) };
    },
  },
  remedies: {
    in: 'tenant',
    costs: 20,
    fresh: true,
    summary: 'What would make a refused action allowed for a member, on a record, or about none: each was tried, the least that it opens first',
    query: z.object({ user: z.string(), action: z.string(), record: z.string().optional() }),
    answers: s.remedies,
    run: async ({ standing, query: { user, action, record } }) => {
      const { decision, ...found } = await standing.remedies(user, action, record);
      return { allowed: decision.allowed, ...found };
    },
  },
  ...ASKING,
  ...APPEALS,
  ...CONNECTIONS,
  ...PLATFORM,
  evaluation: {
    in: 'tenant',
    summary: 'AuthZEN 1.0: may this subject do this to that? About oneself; about others with the permission access.ask.',
    body: evaluation,
    answers: verdict,
    run: ({ lintel, standing, body }) => authzen(lintel, standing).evaluate(body),
  },
  evaluations: {
    in: 'tenant',
    costs: 5,
    summary: 'AuthZEN 1.0: several of these at once',
    body: evaluations,
    answers: z.union([verdict, z.object({ evaluations: z.array(verdict) })]),
    run: ({ lintel, standing, body }) => authzen(lintel, standing).evaluateAll(body),
  },
} satisfies Operations;
