import * as z from 'zod';
import { LintelError } from '../base/index.js';
import type { AdmissionRule } from '../server/index.js';
import { id, value } from './values.js';

const claim = z
  .union([z.string().min(1).max(200), z.array(z.string().min(1).max(200)).min(1).max(5)])
  .describe('By its name, or by names that lie one within the other')
  .meta({ id: 'Claim' });
const values = z.array(z.string().max(500)).min(1).max(1000);
const namedByClaim = z
  .union([id, z.strictObject({ by: claim, as: z.record(z.string(), id).optional() })])
  .describe('An id that is always the same; or the one that a claim names, as it is written there or as `as` says')
  .meta({ id: 'Named' });
const admittedAnchor = z.discriminatedUnion('on', [
  z.strictObject({ on: z.literal('tenant') }),
  z.strictObject({ on: z.literal('unit'), unitId: namedByClaim }),
  z.strictObject({ on: z.literal('record'), kind: id, id: namedByClaim }),
]);
const admissionGives = z.strictObject({
  roles: z
    .array(z.strictObject({ role: id, anchor: admittedAnchor, without: z.array(id).max(200).optional() }))
    .max(50)
    .optional(),
  groups: z.array(namedByClaim).max(100).optional(),
  units: z.array(namedByClaim).max(100).optional(),
  permissions: z
    .array(z.strictObject({ permission: id, reach: id, anchor: admittedAnchor }))
    .max(100)
    .optional(),
});
const requires = z.strictObject({
  requires: claim,
  is: values.optional(),
  words: z.string().min(1).max(500).describe('Why somebody is refused who does not fulfil it'),
});
const gift = z.strictObject({ when: claim.optional(), is: values.optional(), gives: admissionGives });
const says = z.strictObject({ says: id.describe('An attribute of the charter'), by: claim, as: z.record(z.string(), value).optional() });
/** Rules over what a provider says of somebody. */
export const admissionRules: z.ZodType<readonly AdmissionRule[], readonly AdmissionRule[]> = z
  .array(z.union([requires, gift, says]))
  .max(200)
  .meta({ id: 'AdmissionRules' });
export const claimNames = z
  .strictObject({ subject: claim.optional(), address: claim.optional(), name: claim.optional(), directory: claim.optional() })
  .describe('Under which claims it stands who somebody is; by default sub, email and name')
  .meta({ id: 'ClaimNames' });
export const connectionTerms = z
  .discriminatedUnion('kind', [
    z.strictObject({
      kind: z.literal('oidc'),
      issuer: z.string().max(2000),
      clientId: z.string().max(500),
      scopes: z.array(z.string().max(100)).max(20).optional(),
    }),
    z.strictObject({
      kind: z.literal('saml'),
      issuer: z.string().max(2000).describe('Its entity id'),
      signOnUrl: z.string().max(2000),
      certificates: z.array(z.string().max(20_000)).min(1).max(2).describe('PEM; two while one rolls over'),
    }),
  ])
  .meta({ id: 'ConnectionTerms' });
export const connectionParts = { claims: claimNames.optional(), rules: admissionRules.optional() };

/** Rules from JSON, as `edit-connection` takes them. What they name is looked at when they are tried or saved. @throws LintelError `bad-rule` with the place. */
export function readAdmissionRules(json: unknown): readonly AdmissionRule[] {
  const bad = (at: string, why: string) => new LintelError('bad-rule', `${at}: ${why}`, { at });
  if (!Array.isArray(json)) throw bad('rules', 'write them as a list: [ … ]');
  for (const [i, one] of json.entries()) {
    const is = (key: string) => typeof one === 'object' && one !== null && key in one;
    const read = (is('requires') ? requires : is('says') ? says : gift).safeParse(one);
    if (read.success) continue;
    if (!is('requires') && !is('says') && !is('gives')) throw bad(`rules[${i}]`, 'a rule is { requires, is, words }, { when, is, gives } or { says, by, as }');
    const [issue] = read.error.issues;
    throw bad(
      ['rules', i, ...(issue?.path ?? [])].map((part, at) => (typeof part === 'number' ? `[${part}]` : at === 0 ? part : `.${String(part)}`)).join(''),
      issue?.message ?? '',
    );
  }
  return json as readonly AdmissionRule[];
}
