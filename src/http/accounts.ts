import * as z from 'zod';
import { listed, nothing, type Operations } from './operation.js';

const address = z.strictObject({ address: z.string().max(400) });
const password = z.string().max(1000);
const token = z.string().max(2000);
const code = z.string().max(100);
/** What an authenticator answers (WebAuthn level 3, as JSON): it is checked by its signature. */
const answer = z.looseObject({ id: z.string().max(2000), response: z.looseObject({}) });
const asked = z.looseObject({ challenge: z.string() });
const moment = z.iso.datetime();

const only = async (work: Promise<void>) => {
  await work;
  return { answer: {} };
};

/** What people do with their accounts. Secrets of sessions and devices go by cookies alone. */
export const ACCOUNT = {
  signUp: {
    in: 'account',
    summary: 'Ask for an account: a letter goes to the address. Answers the same whether or not there is one.',
    body: address,
    answers: nothing,
    run: ({ accounts, body, coming }) => only(accounts.signUp({ ...body, ...coming })),
  },
  lookAtLink: {
    in: 'account',
    summary: 'To which address a link in a letter went. Changes nothing.',
    body: z.strictObject({ what: z.enum(['sign-up', 'forgotten', 'factor', 'keep-factors']), token }),
    answers: z.object({ address: z.string() }),
    run: async ({ accounts, body }) => ({ answer: await accounts.lookAtLink(body.what, body.token) }),
  },
  activate: {
    in: 'account',
    summary: 'Make the account whose link was followed, and sign its owner in',
    body: z.strictObject({ token, name: z.string().max(200), password, tenantName: z.string().max(200).optional() }),
    answers: z.object({ tenantId: z.string().optional() }),
    run: async ({ accounts, body, coming }) => {
      const { tenantId, ...entered } = await accounts.activate({ ...body, ...coming });
      return { answer: { ...(tenantId !== undefined && { tenantId }) }, session: entered, device: entered.device };
    },
  },
  joinByInvitation: {
    in: 'account',
    summary: 'Make an account for whoever was invited, and accept the invitation',
    body: z.strictObject({ invitation: token, name: z.string().max(200), password }),
    answers: z.object({ tenantId: z.string() }),
    run: async ({ accounts, body, coming }) => {
      const { tenantId, ...entered } = await accounts.joinByInvitation({ ...body, ...coming });
      return { answer: { tenantId }, session: entered, device: entered.device };
    },
  },
  lookAtActivation: {
    in: 'account',
    summary: 'Whose account a way in leads to that somebody was handed. Changes nothing.',
    body: z.strictObject({ activation: token }),
    answers: z.looseObject({ tenantId: z.string(), tenantName: z.string(), name: z.string(), address: z.string(), again: z.boolean(), expiresAt: moment }),
    run: async ({ lintel, body }) => ({ answer: await lintel.lookAtActivation(body.activation) }),
  },
  choosePassword: {
    in: 'account',
    summary: 'Choose the password of an account that an organisation keeps, by the way in that was handed over',
    body: z.strictObject({ activation: token, password }),
    answers: z.object({ tenantId: z.string() }),
    run: async ({ accounts, body, coming }) => {
      const { tenantId, ...entered } = await accounts.choosePassword({ ...body, ...coming });
      return { answer: { tenantId }, session: entered, device: entered.device };
    },
  },
  takePlace: {
    in: 'account',
    summary: 'Take the place of the account that was made for me, with an account of my own',
    body: z.strictObject({ activation: token }),
    answers: z.object({ tenantId: z.string() }),
    run: async ({ accounts, token, body }) => ({ answer: await accounts.takePlace(token, body.activation) }),
  },
  signIn: {
    in: 'account',
    summary: 'Sign in. `next` says what is still to come: `secondFactor`, by giveCode. `tenant`: whose sign-in page this is.',
    body: z.strictObject({ address: z.string().max(400), password, tenant: z.string().max(200).optional() }),
    answers: z.object({ next: z.enum(['secondFactor']).optional(), by: z.array(z.enum(['code', 'passkey'])).optional() }),
    run: async ({ accounts, body, coming, device }) => {
      const entered = await accounts.signIn({ ...body, ...coming, device });
      return entered.next === undefined
        ? { answer: {}, session: entered, device: entered.device }
        : { answer: { next: entered.next, by: entered.by }, session: entered };
    },
  },
  giveCode: {
    in: 'account',
    summary: 'Give the second factor: a code, or a recovery code, which counts once',
    body: z.union([z.strictObject({ code }), z.strictObject({ recoveryCode: code }), z.strictObject({ passkey: answer })]),
    answers: nothing,
    run: async ({ accounts, token, body, coming }) => {
      const entered = await accounts.giveCode(token, body, coming);
      return { answer: {}, session: entered, device: entered.device };
    },
  },
  signOut: {
    in: 'account',
    summary: 'Sign out',
    body: nothing,
    answers: nothing,
    run: async ({ accounts, token }) => {
      await accounts.signOut(token);
      return { answer: {}, session: null };
    },
  },
  myAccount: {
    in: 'account',
    summary: 'Who is signed in, since when, by what, and which obligations that meets; `account` is null for nobody',
    answers: z.object({
      account: z
        .looseObject({
          userId: z.string(),
          name: z.string(),
          address: z.string(),
          signedInAt: moment,
          provenAt: moment,
          methods: z.array(z.string()),
          hasFactor: z.boolean(),
          fulfilled: z.array(z.string()),
          terms: z.string().optional().describe('The version of the terms that is to be accepted'),
        })
        .nullable(),
    }),
    run: async ({ accounts, token }) => {
      const [who, sender] = await Promise.all([accounts.signedIn(token), accounts.sender(token)]);
      const { terms } = accounts;
      if (!who || !sender) return { answer: { account: null } };
      const isOpen = terms && !sender.fulfilled.includes('acceptTerms');
      return { answer: { account: { ...who, fulfilled: sender.fulfilled, ...(isOpen && { terms: terms.version }) } } };
    },
  },
  prove: {
    in: 'account',
    summary: 'Show again who I am, without signing out: by the password; where there is a second factor by a code or a passkey',
    body: z.union([z.strictObject({ password }), z.strictObject({ code }), z.strictObject({ passkey: answer })]),
    answers: nothing,
    run: async ({ accounts, token, body, coming }) => ({ answer: {}, session: await accounts.prove(token, body, coming) }),
  },
  changePassword: {
    in: 'account',
    summary: 'Choose another password, by the present one: every other session and device ends',
    body: z.strictObject({ present: password, next: password }),
    answers: nothing,
    run: async ({ accounts, token, body, coming }) => ({ answer: {}, session: await accounts.changePassword(token, body, coming) }),
  },
  forgotten: {
    in: 'account',
    summary: 'Ask for a new password: a letter goes to the address. Answers the same whether or not there is an account.',
    body: address,
    answers: nothing,
    run: ({ accounts, body, coming }) => only(accounts.forgotten({ ...body, ...coming })),
  },
  recover: {
    in: 'account',
    summary: 'Choose a new password, by the link in a letter: every session and device ends',
    body: z.strictObject({ token, password }),
    answers: nothing,
    run: ({ accounts, body, coming }) => only(accounts.recover({ ...body, ...coming })),
  },
  keepFactors: {
    in: 'account',
    summary: 'Keep my second factors, which somebody was asked to remove, by the link in a letter',
    body: z.strictObject({ token }),
    answers: nothing,
    run: ({ accounts, body }) => only(accounts.keepFactors(body.token)),
  },
  mySessions: {
    in: 'account',
    summary: 'Where I am signed in',
    answers: listed(z.looseObject({ id: z.string(), label: z.string().nullable(), startedAt: moment, seenAt: moment, isThis: z.boolean() })),
    run: async ({ accounts, token }) => ({ answer: { items: await accounts.mySessions(token) } }),
  },
  endSession: {
    in: 'account',
    summary: 'Sign out elsewhere: one session, or all others',
    body: z.union([z.strictObject({ id: z.string().max(100) }), z.strictObject({ others: z.literal(true) })]),
    answers: z.object({ ended: z.number() }),
    run: async ({ accounts, token, body }) => {
      if ('others' in body) return { answer: { ended: await accounts.endOtherSessions(token) } };
      await accounts.endSession(token, body.id);
      return { answer: { ended: 1 } };
    },
  },
  mySignIns: {
    in: 'account',
    summary: 'When and how I signed in, or somebody tried to',
    answers: listed(z.looseObject({ at: moment, method: z.string(), outcome: z.enum(['in', 'refused']), place: z.string().nullable() })),
    run: async ({ accounts, token }) => ({ answer: { items: await accounts.mySignIns(token) } }),
  },
  askForFactor: {
    in: 'account',
    summary: 'Ask for a second factor: a letter goes to my address',
    body: nothing,
    answers: nothing,
    run: ({ accounts, token, coming }) => only(accounts.askForFactor(token, coming)),
  },
  beginFactor: {
    in: 'account',
    summary: 'What an authenticator takes, by the link in the letter. Shown once.',
    body: z.strictObject({ token: token.optional() }),
    answers: z.object({ uri: z.string(), svg: z.string(), secret: z.string() }),
    run: async ({ accounts, token, body }) => ({ answer: await accounts.beginFactor(token, body.token) }),
  },
  confirmFactor: {
    in: 'account',
    summary: 'Give the first code: from now on signing in takes one. Answers ten recovery codes, shown once.',
    body: z.strictObject({ code }),
    answers: z.object({ recoveryCodes: z.array(z.string()) }),
    run: async ({ accounts, token, body }) => {
      const { session, recoveryCodes } = await accounts.confirmFactor(token, body.code);
      return { answer: { recoveryCodes }, session };
    },
  },
  newRecoveryCodes: {
    in: 'account',
    summary: 'Ten recovery codes in the place of those before. Shown once.',
    body: nothing,
    answers: z.object({ recoveryCodes: z.array(z.string()) }),
    run: async ({ accounts, token }) => ({ answer: { recoveryCodes: await accounts.newRecoveryCodes(token) } }),
  },
  removeFactor: {
    in: 'account',
    summary: 'Sign in with the password alone from now on',
    body: nothing,
    answers: nothing,
    run: ({ accounts, token }) => only(accounts.removeFactor(token)),
  },
  beginPasskey: {
    in: 'account',
    summary: 'What a browser makes a passkey of; the first factor takes the link of a letter',
    body: z.strictObject({ token: token.optional() }),
    answers: asked,
    run: async ({ accounts, token, body }) => ({ answer: await accounts.beginPasskey(token, body.token) }),
  },
  addPasskey: {
    in: 'account',
    summary: 'Add the passkey that the browser made. Answers ten recovery codes, shown once, where it is the first factor.',
    body: z.strictObject({ passkey: answer, label: z.string().max(100).optional() }),
    answers: z.object({ recoveryCodes: z.array(z.string()).optional() }),
    run: async ({ accounts, token, body }) => {
      const { session, recoveryCodes } = await accounts.addPasskey(token, body.passkey, body.label);
      return { answer: { ...(recoveryCodes && { recoveryCodes }) }, session };
    },
  },
  myPasskeys: {
    in: 'account',
    summary: 'My passkeys',
    answers: listed(z.looseObject({ id: z.string(), label: z.string().nullable(), madeAt: moment, usedAt: moment.nullable() })),
    run: async ({ accounts, token }) => ({ answer: { items: await accounts.myPasskeys(token) } }),
  },
  removePasskey: {
    in: 'account',
    summary: 'Remove a passkey of mine',
    body: z.strictObject({ id: z.string().max(2000) }),
    answers: nothing,
    run: ({ accounts, token, body }) => only(accounts.removePasskey(token, body.id)),
  },
  beginPasskeySignIn: {
    in: 'account',
    summary: 'What a browser asks an authenticator, to sign in or to prove. Lists no passkey.',
    body: nothing,
    answers: asked,
    run: async ({ accounts }) => ({ answer: await accounts.beginPasskeySignIn() }),
  },
  signInByPasskey: {
    in: 'account',
    summary: 'Sign in by a passkey alone',
    body: z.strictObject({ passkey: answer }),
    answers: nothing,
    run: async ({ accounts, body, coming }) => {
      const entered = await accounts.signInByPasskey(body.passkey, coming);
      return { answer: {}, session: entered, device: entered.device };
    },
  },
  acceptTerms: {
    in: 'account',
    summary: 'Accept the terms, in the version that was shown',
    body: z.strictObject({ version: z.string().max(100) }),
    answers: nothing,
    run: ({ accounts, token, body }) => only(accounts.acceptTerms(token, body.version)),
  },
} satisfies Operations;
