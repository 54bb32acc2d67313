import * as z from 'zod';
import { admissionRules, claimNames, connectionTerms } from './admission-schemas.js';
import { LARGE, listed, nothing, type Operations } from './operation.js';
import * as s from './schemas.js';

const connection = z.looseObject({
  id: z.string(),
  name: z.string(),
  state: z.enum(['draft', 'on', 'off']),
  terms: connectionTerms,
  claims: claimNames,
  rules: admissionRules,
  hasSecret: z.boolean(),
  isTried: z.boolean().describe('It was tried with claims as it is now'),
  people: z.number(),
});
const said = z.object({ code: z.string(), words: z.string() });
const arrived = z.looseObject({
  outcome: z.enum(['in', 'refused']),
  said: said.optional(),
  admission: z.looseObject({
    gives: z.looseObject({}),
    spoke: z.array(z.object({ rule: z.number(), values: z.array(z.string()) })),
    unknown: z.array(z.object({ claim: z.string(), values: z.array(z.string()) })),
  }),
});

/** The providers by which people come into a tenant. What changes them are steps. */
export const CONNECTIONS = {
  waysInto: {
    in: 'nobody',
    with: 'signOn',
    summary: 'The ways to sign in to an organisation by its own providers; none where there is no such organisation',
    body: z.strictObject({ tenant: s.id }),
    answers: listed(z.object({ id: z.string(), name: z.string(), path: z.string().describe('Where the button leads') })),
    run: async ({ signOn, body }) => ({ items: (await signOn?.waysInto(body.tenant)) ?? [] }),
  },
  wayFor: {
    in: 'nobody',
    with: 'signOn',
    summary: 'Where somebody with such an address signs in by a provider; `way` is null for nowhere. It depends on the domain alone.',
    body: z.strictObject({ address: z.string().max(400) }),
    answers: z.object({ way: z.object({ id: z.string(), name: z.string(), path: z.string(), tenantId: z.string() }).nullable() }),
    run: async ({ signOn, body }) => ({ way: (await signOn?.wayFor(body.address)) ?? null }),
  },
  listDomains: {
    in: 'tenant',
    summary: 'Mail domains that the organisation says are theirs, with the record that shows it',
    answers: listed(z.looseObject({ domain: z.string(), record: z.object({ name: z.string(), value: z.string() }), provenAt: z.iso.datetime().optional() })),
    run: async ({ standing }) => ({ items: await standing.connections.domains() }),
  },
  proveDomain: {
    in: 'tenant',
    with: 'domains',
    costs: 20,
    summary: 'Look in the DNS whether a domain is ours',
    answers: nothing,
    run: async ({ standing, domains, path }) => {
      await domains?.prove(standing, path.domain as string);
      return {};
    },
  },
  listDirectories: {
    in: 'tenant',
    fresh: true,
    summary: 'What directories have brought: people, groups, and what of it is not known here',
    answers: listed(
      z.looseObject({
        program: z.string(),
        name: z.string(),
        users: z.number(),
        active: z.number(),
        arrived: z.number(),
        groups: z.array(z.looseObject({ id: z.string(), name: z.string(), people: z.number(), roles: z.number() })),
        unknown: z.array(z.string()),
      }),
    ),
    run: async ({ standing }) => ({ items: await standing.tenant.directories() }),
  },
  listSources: {
    in: 'tenant',
    summary: 'What the sources are called that stand with roles, groups and places',
    answers: listed(z.object({ source: z.string(), name: z.string() })),
    run: async ({ standing }) => ({ items: await standing.tenant.sources() }),
  },
  listConnections: {
    in: 'tenant',
    summary: 'The providers by which people come in, for whoever has full control',
    answers: listed(connection),
    run: async ({ standing }) => ({ items: await standing.connections.list() }),
  },
  listRefused: {
    in: 'tenant',
    fresh: true,
    summary: 'Who came by a provider lately and was not let in, or is in and was not given what came',
    answers: listed(
      z.looseObject({ connection: z.string(), subject: z.string(), name: z.string(), address: z.string(), at: z.iso.datetime() }).extend(said.shape),
    ),
    run: async ({ standing }) => ({ items: await standing.connections.refused() }),
  },
  tryConnection: {
    in: 'tenant',
    costs: 10,
    most: LARGE,
    summary: 'What would become of somebody who comes with these claims. Nothing is written but that it was tried.',
    body: z.strictObject({
      claims: z.record(z.string(), z.unknown()),
      rules: admissionRules.optional(),
      names: claimNames.optional(),
      terms: connectionTerms.optional(),
    }),
    answers: z.object({ arrived, proposal: s.effects }),
    run: ({ standing, path, body }) => standing.connections.try({ connection: path.connection as string, ...body }),
  },
  setConnectionSecret: {
    in: 'tenant',
    with: 'signOn',
    summary: 'Keep the secret by which the application is known to the provider. It is shown to nobody again.',
    body: z.strictObject({ secret: z.string().max(2000) }),
    answers: nothing,
    run: async ({ standing, signOn, path, body }) => {
      await signOn?.keepSecret(standing, path.connection as string, body.secret);
      return {};
    },
  },
} satisfies Operations;
