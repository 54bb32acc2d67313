import * as z from 'zod';
import { listed, type Operations } from './operation.js';
import * as s from './schemas.js';

/** How a tenant is arranged: its roles, groups and units, what is given besides, what is shared, and who asks to be let in. */
export const ARRANGEMENT = {
  rolesToGive: {
    in: 'tenant',
    summary: 'Roles that I may give, for the whole organisation or at a unit',
    query: z.object({ unit: z.string().optional() }),
    answers: listed(z.looseObject({ role: z.string(), label: z.string(), sentence: z.string().optional(), until: z.string().optional() })),
    run: async ({ standing, query: { unit } }) => ({
      items: await standing.members.rolesToGive(unit === undefined ? { on: 'tenant' } : { on: 'unit', unitId: unit }),
    }),
  },
  listRoles: {
    in: 'tenant',
    summary: 'Roles, with whoever holds each by whatever way',
    answers: listed(s.roleView),
    run: async ({ standing }) => ({ items: await standing.tenant.roles() }),
  },
  listGroups: {
    in: 'tenant',
    summary: 'Groups, with who is in them',
    answers: listed(s.group),
    run: async ({ standing }) => ({ items: await standing.tenant.groups() }),
  },
  listUnits: {
    in: 'tenant',
    summary: 'Units, each after the one above it, with who is placed there',
    answers: listed(s.unit),
    run: async ({ standing }) => ({ items: await standing.tenant.units() }),
  },
  listGivenAlone: {
    in: 'tenant',
    fresh: true,
    summary: 'Permissions that were given alone, beside roles',
    answers: listed(s.givenAlone),
    run: async ({ standing }) => ({ items: await standing.tenant.givenAlone() }),
  },
  listOpenings: {
    in: 'tenant',
    fresh: true,
    summary: 'What people of a group own that is open to others',
    answers: listed(s.opening),
    run: async ({ standing }) => ({ items: await standing.tenant.openings() }),
  },
  listDeputies: {
    in: 'tenant',
    fresh: true,
    summary: 'Who stands in for whom, or will',
    answers: listed(s.deputy),
    run: async ({ standing }) => ({ items: await standing.tenant.deputies() }),
  },
  listPrograms: {
    in: 'tenant',
    summary: 'Programs, with who answers for them and the keys that count',
    answers: listed(s.program),
    run: async ({ standing }) => ({ items: await standing.programs.list() }),
  },
  listRequests: {
    in: 'tenant',
    summary: 'Who asks to be let in',
    answers: listed(s.joinRequest),
    run: async ({ standing }) => ({ items: await standing.tenant.requests() }),
  },
} satisfies Operations;
