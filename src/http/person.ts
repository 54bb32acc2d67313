import * as z from 'zod';
import { listed, nothing, type Operations } from './operation.js';

const token = z.strictObject({ token: z.string().max(2000) });

/** What somebody asks without a standing: about themselves, or with a link. */
export const PERSON = {
  myTenants: {
    in: 'person',
    summary: 'Organisations to which I belong',
    answers: listed(z.looseObject({ id: z.string(), name: z.string() })),
    run: async ({ lintel, who }) => ({ items: await lintel.myTenants(who) }),
  },
  myInvitations: {
    in: 'person',
    summary: 'Invitations that wait for me',
    answers: listed(z.looseObject({ tenantId: z.string(), invitationId: z.string(), tenantName: z.string(), expiresAt: z.iso.datetime() })),
    run: async ({ lintel, who }) => ({ items: await lintel.myInvitations(who) }),
  },
  lookAtInvitation: {
    in: 'nobody',
    summary: 'What an invitation says, for whoever has its link. Changes nothing.',
    body: token,
    answers: z.looseObject({ tenantId: z.string(), tenantName: z.string(), address: z.string(), expiresAt: z.iso.datetime() }),
    run: ({ lintel, body }) => lintel.lookAtInvitation(body.token),
  },
  acceptInvitation: {
    in: 'person',
    summary: 'Accept an invitation, by its link or as one of mine',
    body: z.union([token, z.strictObject({ tenantId: z.string(), invitationId: z.string() })]),
    answers: z.object({ tenantId: z.string() }),
    run: ({ lintel, who, body }) => lintel.acceptInvitation(who, body),
  },
  askToJoin: {
    in: 'person',
    summary: 'Ask to be let into an organisation',
    body: z.strictObject({ tenant: z.string(), words: z.string().max(500).optional() }),
    answers: z.object({ outcome: z.enum(['joined', 'asked']) }),
    run: async ({ lintel, who, body }) => ({ outcome: await lintel.askToJoin(who, body.tenant, body.words) }),
  },
  stopAsking: {
    in: 'person',
    summary: 'Ask no longer to be let in',
    body: z.strictObject({ tenant: z.string() }),
    answers: nothing,
    run: async ({ lintel, who, body }) => {
      await lintel.stopAsking(who, body.tenant);
      return {};
    },
  },
  rename: {
    in: 'person',
    summary: 'Change my name',
    body: z.strictObject({ name: z.string().max(200) }),
    answers: nothing,
    run: async ({ lintel, who, body }) => {
      await lintel.renamePerson(who, body.name);
      return {};
    },
  },
  changeAddress: {
    in: 'person',
    // Whoever has the address can come to have the account.
    lately: true,
    summary: 'Begin to change my address: a link goes to the new one, and it counts once that was followed and confirmed',
    body: z.strictObject({ address: z.string().max(400) }),
    answers: z.object({ token: z.string().optional() }),
    run: ({ lintel, who, body }) => lintel.changeAddress(who, body.address),
  },
  proveAddress: {
    in: 'person',
    summary: 'Confirm a new address of mine, by the link that went there',
    body: token,
    answers: z.object({ userId: z.string() }),
    run: ({ lintel, who, body }) => lintel.proveAddress(who, body.token),
  },
  declineInvitation: {
    in: 'nobody',
    summary: 'Decline an invitation, by its link',
    body: token,
    answers: nothing,
    run: async ({ lintel, body }) => {
      await lintel.declineInvitation(body.token);
      return {};
    },
  },
} satisfies Operations;
