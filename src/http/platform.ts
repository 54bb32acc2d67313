import * as z from 'zod';
import type { NewCare } from '../server/index.js';
import { nothing, type Operations } from './operation.js';
import * as s from './schemas.js';

const { id, name } = s;
const reason = z.string().min(1).max(500);
const ofTenant = z.strictObject({ tenant: id, reason });
const until = z.object({ id: z.string(), until: z.iso.datetime() });

/** What the staff of the platform does. To whoever may not, each says so; where the charter names no platform there is no such page. */
export const PLATFORM = {
  openTenant: {
    in: 'person',
    summary: 'Open an organisation for somebody, who is its first keyholder',
    body: z.strictObject({ id, name, keyholder: id, contact: name.optional() }),
    answers: z.object({ id: z.string() }),
    run: async ({ lintel, who, body: { contact, ...tenant } }) => ({
      id: await lintel.platform(who).openTenant({ ...tenant, ...(contact !== undefined && { contact }) }),
    }),
  },
  closeTenant: {
    in: 'person',
    summary: 'Close an organisation: nobody has a standing in it from the next request on, and nothing is lost',
    body: ofTenant,
    answers: nothing,
    run: async ({ lintel, who, body }) => {
      await lintel.platform(who).closeTenant(body.tenant, body.reason);
      return {};
    },
  },
  reopenTenant: {
    in: 'person',
    summary: 'Open a closed organisation again, as it was',
    body: ofTenant,
    answers: nothing,
    run: async ({ lintel, who, body }) => {
      await lintel.platform(who).reopenTenant(body.tenant, body.reason);
      return {};
    },
  },
  setPlan: {
    in: 'person',
    summary: 'Set the features and seats of an organisation. Nothing is deleted; the answer says what it means.',
    body: z.strictObject({ tenant: id, features: z.array(z.string().max(200)).max(200).optional(), seats: z.int().min(1).nullable().optional() }),
    answers: z.object({
      members: z.number(),
      above: z.number(),
      closed: z.array(z.object({ permission: z.string(), feature: z.string() })),
    }),
    run: ({ lintel, who, body: { tenant, ...plan } }) => lintel.platform(who).setPlan(tenant, plan),
  },
  beginCare: {
    in: 'person',
    summary: 'Begin to look after an organisation: on its record, and its keyholders are told',
    body: z.strictObject({ tenant: id, reason, hours: z.number().positive().max(24), may: z.array(z.string().max(200)).max(200).optional() }),
    answers: until,
    run: ({ lintel, who, body }) => lintel.platform(who).beginCare(body as NewCare),
  },
  endCare: {
    in: 'person',
    summary: 'Look after an organisation no longer',
    body: z.strictObject({ tenant: id, care: id }),
    answers: nothing,
    run: async ({ lintel, who, body }) => {
      await lintel.platform(who).endCare(body.tenant, body.care);
      return {};
    },
  },
  deactivatePerson: {
    in: 'person',
    summary: 'Deactivate an account everywhere. Nothing is lost.',
    body: z.strictObject({ user: id, reason }),
    answers: nothing,
    run: async ({ lintel, who, body }) => {
      await lintel.platform(who).deactivate(body.user, body.reason);
      return {};
    },
  },
  reactivatePerson: {
    in: 'person',
    summary: 'Bring a deactivated account back, as it was',
    body: z.strictObject({ user: id, reason }),
    answers: nothing,
    run: async ({ lintel, who, body }) => {
      await lintel.platform(who).reactivate(body.user, body.reason);
      return {};
    },
  },
  resetFactors: {
    in: 'person',
    summary: 'Remove the second factors of somebody who has lost them, a day after they were told',
    body: z.strictObject({ user: id, reason }),
    answers: nothing,
    run: async ({ lintel, who, body }) => {
      await lintel.platform(who).resetFactors(body.user, body.reason);
      return {};
    },
  },
  erasePerson: {
    in: 'person',
    summary: 'Erase a person everywhere; the records of changes stay whole',
    body: z.strictObject({ user: id }),
    answers: z.object({ words: z.number() }),
    run: ({ lintel, who, body }) => lintel.platform(who).erasePerson(body.user),
  },
} satisfies Operations;
