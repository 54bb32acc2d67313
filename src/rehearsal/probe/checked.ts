import { didYouMean, LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import type { ProbeTarget } from './target.js';

const wrong = (sentence: string) => new LintelError('bad-target', `probe.${sentence}`, {});

/** What a JavaScript file may have left out or written otherwise. @throws LintelError `bad-target`, and what the charter throws for names that it does not have. */
export function checkTarget(charter: Charter<any>, target: ProbeTarget): void {
  const { app, signIn, sessions, membership, putOut, turns = [], routes } = target;
  if (typeof app !== 'function' && typeof app !== 'string')
    throw wrong('app is missing: give the application as a function of a Request, or its address on this machine, http://localhost:3000');
  if (typeof signIn !== 'function') throw wrong('signIn is missing: a function that signs a person in, and answers the headers that their requests carry');
  if (sessions !== undefined && sessions !== 'person' && sessions !== 'tenant') throw wrong(`sessions is "${String(sessions)}": write person or tenant`);
  if (putOut !== undefined && typeof putOut !== 'function') throw wrong('putOut is no function');
  if (membership) {
    const kinds = Object.keys(charter.data.kinds);
    if (!kinds.includes(membership.kind))
      throw wrong(`membership names the kind "${String(membership.kind)}", which the charter does not have${didYouMean(String(membership.kind), kinds)}`);
    const { fields } = charter.kind(membership.kind);
    if (charter.shapes[membership.kind]?.tenantField === undefined)
      throw wrong(`membership names the kind ${membership.kind}, which has no field for the organisation`);
    for (const part of ['person', 'role'] as const) {
      const field = membership[part];
      if (part === 'role' && field === undefined) continue;
      if (typeof field !== 'string' || !Object.hasOwn(fields, field))
        throw wrong(`membership.${part} is "${String(field)}", and ${membership.kind} has no such field${didYouMean(String(field), Object.keys(fields))}`);
    }
  }
  for (const [i, { what, roles, make }] of turns.entries()) {
    if (typeof what !== 'string' || typeof make !== 'function' || !Array.isArray(roles))
      throw wrong(`turns[${i}] is not { what, roles, make }: what happened, all roles after it, and a function that makes it so`);
    for (const role of roles) charter.role(role);
  }
  if (!Array.isArray(routes)) return;
  const at = routes.findIndex((one) => typeof one?.method !== 'string' || typeof one.path !== 'string' || !one.path.startsWith('/'));
  if (at >= 0) throw wrong(`routes[${at}] is not { method, path }: { method: 'get', path: '/hives/:id' }`);
}
