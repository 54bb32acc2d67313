import { LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import { type Assignment, heldTogether } from '../../standing/index.js';
import { domainOf } from '../terms/index.js';
import { refuseTogether } from './apart.js';
import type { Change } from './change.js';

/**
 * What somebody is to hold by themselves, before anything is written.
 *
 * @throws LintelError `one-role` where the tenant allows one role a person, `apart`.
 */
export function insistOnRules({ rules, actor }: Pick<Change, 'rules' | 'actor'>, roles: readonly Assignment[]): void {
  if (rules.oneRole && roles.length > 1)
    throw new LintelError('one-role', `In ${actor.facts.tenant.name} everybody has one role at most. Take one away to give another.`, { roles: roles.length });
  const [broken] = heldTogether(actor.charter as Charter, {
    ...actor.facts,
    assignments: roles,
    direct: [],
    opened: [],
    standsFor: [],
    me: { ...actor.facts.me },
  });
  if (broken !== undefined) refuseTogether(actor.charter as Charter, broken, undefined);
}

/** @throws LintelError `other-domain` where only addresses of certain domains come in, and this is of none of them. */
export function insistOnDomain({ rules, actor }: Pick<Change, 'rules' | 'actor'>, address: string): void {
  const { only, domains = [] } = rules.joining;
  if (only && !domains.includes(domainOf(address)))
    throw new LintelError('other-domain', `In ${actor.facts.tenant.name} only addresses of ${domains.join(', ')} come in.`, { domains });
}
