import * as z from 'zod';
import type { JournalPart } from '../server/index.js';
import { listed, type Operations } from './operation.js';
import * as s from './schemas.js';

const person = z.looseObject({ userId: z.string(), name: z.string() });
const grant = z.looseObject({ holds: z.enum(['yes', 'no', 'not loaded']), reach: z.string(), by: z.string(), where: z.string(), failed: z.array(z.string()) });

const explanation = z
  .looseObject({
    who: z.looseObject({ id: z.string(), name: z.string(), powers: z.string() }),
    tenant: z.string(),
    action: z.looseObject({ name: z.string(), label: z.string() }),
    record: z.looseObject({ kind: z.string(), id: z.string(), label: z.string() }).nullable(),
    allowed: z.union([z.boolean(), z.literal('unknown')]),
    outcome: z.string(),
    reason: z.string(),
    grants: z.array(grant),
    readGrants: z.array(grant),
    told: z.string().describe('What the person is told'),
    ask: z.array(z.string()).describe('Who could change it'),
  })
  .meta({ id: 'Explanation' });

const journalEntry = z
  .looseObject({
    id: z.string(),
    kind: z.string(),
    record: z.string(),
    label: z.string().nullable(),
    what: z.enum(['made', 'changed', 'handed over', 'deleted']),
    at: z.iso.datetime(),
    by: person.nullable(),
    for: person.nullable().optional(),
    actions: z.array(z.string()),
    fields: z.record(z.string(), z.looseObject({ from: z.unknown(), to: z.unknown() })),
    erased: z.array(z.string()),
  })
  .meta({ id: 'JournalEntry' });

const users = z.string().describe('Ids, parted by commas');

const page = ({ items, next }: JournalPart) => ({ items: items.map((one) => ({ ...one, at: one.at.toISOString() })), next: next ?? null });

/** What is asked about access and about what was done. */
export const ASKING = {
  why: {
    in: 'tenant',
    costs: 5,
    fresh: true,
    summary: 'Why somebody may, or may not: oneself, or with access.ask a member of whom one may know; as far as the caller may know of what it rests on',
    query: z.object({ action: z.string(), user: z.string().optional(), record: z.string().optional() }),
    answers: explanation,
    run: ({ standing, query: { action, user, record } }) =>
      standing.access.why(action, { ...(user !== undefined && { user }), ...(record !== undefined && { id: record }) }),
  },
  gives: {
    in: 'tenant',
    costs: 20,
    fresh: true,
    summary: 'Everything that gives a permission, and who has it by each; for whoever may ask of everybody',
    query: z.object({ action: z.string() }),
    answers: listed(z.looseObject({ by: z.string(), reaches: z.array(z.string()), holders: z.array(z.string()) })),
    run: async ({ standing, query: { action } }) => ({ items: await standing.access.gives(action) }),
  },
  compare: {
    in: 'tenant',
    costs: 20,
    fresh: true,
    summary: 'Members side by side: what each holds where they differ; by an action, for whoever sees all records, which all of them reach and which some do',
    query: z.object({ users, on: z.string().optional() }),
    answers: z.looseObject({
      tenant: z.string(),
      names: z.array(z.string()),
      permissions: z.array(z.looseObject({ permission: z.string() })),
      alike: z.number(),
    }),
    run: ({ standing, query: { users: named, on } }) => standing.access.compare(named.split(',').slice(0, 10), on),
  },
  journal: {
    in: 'tenant',
    fresh: true,
    summary: 'What was done to records that the caller reaches, the newest first: to one, by somebody, or lately. A page may be short and have a next one.',
    query: s.paging.extend({ kind: z.string().optional(), record: z.string().optional(), person: z.string().optional() }),
    answers: s.pageOf(journalEntry),
    run: async ({ standing, query: { kind, record, person: who, after, limit } }) => {
      const part = { limit, ...(after !== undefined && { after }) };
      if (kind !== undefined && record !== undefined) return page(await standing.journal(kind, record, part));
      return page(await (who === undefined ? standing.journal.recent(part) : standing.journal.of(who, part)));
    },
  },
} satisfies Operations;
