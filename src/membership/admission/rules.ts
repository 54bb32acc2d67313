import { didYouMean, LintelError } from '../../base/index.js';
import { type Charter, KEYHOLDER } from '../../charter/index.js';
import { type AdmissionGives, type AdmissionRule, type AdmittedAnchor, type Named, readWords } from '../terms/index.js';

/** So many rules has a connection, and so many values one of them names. */
const MOST_RULES = 200;
const MOST_VALUES = 1000;

const bad = (at: string, why: string) => new LintelError('bad-rule', `${at}: ${why}`, { at });

function readClaim(claim: unknown, at: string): void {
  const parts = [claim].flat();
  if (parts.length === 0 || parts.length > 5 || parts.some((one) => typeof one !== 'string' || one === '' || one.length > 200))
    throw bad(at, 'a claim is a name, or at most 5 names that lie one within the other');
}

function readValues(values: readonly string[] | undefined, at: string): void {
  if (values === undefined) return;
  // An empty list is no value, and so nobody.
  if (values.length === 0) throw bad(at, 'an empty list is no value; leave it out for any');
  if (values.length > MOST_VALUES) throw bad(at, `names ${values.length} values, at most ${MOST_VALUES} can be`);
}

function readNamed(named: Named, at: string): void {
  if (typeof named === 'string') return;
  readClaim(named.by, `${at}.by`);
  if (Object.keys(named.as ?? {}).length > MOST_VALUES) throw bad(`${at}.as`, `at most ${MOST_VALUES} values can be`);
}

function readAnchor(charter: Charter, anchor: AdmittedAnchor, at: string): void {
  if (anchor.on === 'unit') readNamed(anchor.unitId, `${at}.unitId`);
  if (anchor.on !== 'record') return;
  readNamed(anchor.id, `${at}.id`);
  const kinds = Object.keys(charter.data.kinds);
  if (!kinds.includes(anchor.kind)) throw bad(`${at}.kind`, `no kind "${anchor.kind}"${didYouMean(anchor.kind, kinds)}`);
}

function readGives(charter: Charter, { roles = [], groups = [], units = [], permissions = [] }: AdmissionGives, at: string): void {
  const known = Object.keys(charter.data.roles);
  for (const [i, { role, anchor, without = [] }] of roles.entries()) {
    const here = `${at}.roles[${i}]`;
    // guard rules-no-full-control by arrival: Rules of an identity provider could give full control.
    if (role === KEYHOLDER) throw bad(`${here}.role`, 'nothing that arrives gives full control; a person gives it here');
    // guard rules-no-full-control
    if (!known.includes(role)) throw bad(`${here}.role`, `no role "${role}"${didYouMean(role, known)}`);
    readAnchor(charter, anchor, `${here}.anchor`);
    const parts = charter.resolveRole(role).grants.map(({ permission }) => permission);
    const foreign = without.find((one) => !parts.includes(one));
    if (foreign !== undefined) throw bad(`${here}.without`, `the role does not hold "${foreign}"`);
  }
  for (const [i, { permission, reach, anchor }] of permissions.entries()) {
    const here = `${at}.permissions[${i}]`;
    const all = [...charter.permissions.keys()];
    if (!all.includes(permission)) throw bad(`${here}.permission`, `no action "${permission}"${didYouMean(permission, all)}`);
    const reaches = charter.reachesOf(permission);
    if (!reaches.includes(reach)) throw bad(`${here}.reach`, `no reach "${reach}"; there are ${reaches.join(', ')}`);
    readAnchor(charter, anchor, `${here}.anchor`);
  }
  for (const [i, one] of groups.entries()) readNamed(one, `${at}.groups[${i}]`);
  for (const [i, one] of units.entries()) readNamed(one, `${at}.units[${i}]`);
}

/**
 * Rules that a tenant can have.
 *
 * @param charter with the tenant's own roles.
 * @throws LintelError `bad-rule`, with the place in it and the near match.
 */
export function checkRules(charter: Charter, rules: readonly AdmissionRule[]): void {
  if (rules.length > MOST_RULES) throw bad('rules', `there are ${rules.length}, at most ${MOST_RULES} can be`);
  const attributes = charter.data.attributes ?? {};
  for (const [i, rule] of rules.entries()) {
    const at = `rules[${i}]`;
    if ('requires' in rule) {
      readClaim(rule.requires, `${at}.requires`);
      readValues(rule.is, `${at}.is`);
      if (readWords(rule.words) === null) throw bad(`${at}.words`, 'say in words why somebody is refused');
    } else if ('gives' in rule) {
      if (rule.when !== undefined) readClaim(rule.when, `${at}.when`);
      if (rule.when === undefined && rule.is !== undefined) throw bad(`${at}.is`, 'say of which claim: when');
      readValues(rule.is, `${at}.is`);
      readGives(charter, rule.gives, `${at}.gives`);
    } else {
      readClaim(rule.by, `${at}.by`);
      const data = Object.hasOwn(attributes, rule.says) ? attributes[rule.says] : undefined;
      if (!data) throw bad(`${at}.says`, `the charter has no attribute "${rule.says}"${didYouMean(rule.says, Object.keys(attributes))}`);
      if (!data.setBy.includes('source')) throw bad(`${at}.says`, `“${data.label ?? rule.says}” is said by no source, but by ${data.setBy.join(' or ')}`);
    }
  }
}
