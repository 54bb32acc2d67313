import type { DirectPermission } from '../../standing/index.js';

/** A claim by its name, or by names that lie one within the other: `groups`, `['realm', 'roles']`. */
export type Claim = string | readonly string[];

/** An id that is always the same; or the one that a claim names: as it is written there, or as `as` says what that stands for. */
export type Named = string | { readonly by: Claim; readonly as?: Readonly<Record<string, string>> };

/** Where something is held: for the whole tenant, at a unit, or on a record. */
export type AdmittedAnchor =
  | { readonly on: 'tenant' }
  | { readonly on: 'unit'; readonly unitId: Named }
  | { readonly on: 'record'; readonly kind: string; readonly id: Named };

/** What a rule gives. What is left out is none. A claim with several values names several. */
export interface AdmissionGives {
  readonly roles?: readonly { readonly role: string; readonly anchor: AdmittedAnchor; readonly without?: readonly string[] }[];
  readonly groups?: readonly Named[];
  readonly units?: readonly Named[];
  readonly permissions?: readonly (Pick<DirectPermission, 'permission' | 'reach'> & { readonly anchor: AdmittedAnchor })[];
}

/**
 * One rule over what a provider says of somebody: what has to be so, else they are refused in its words; what a claim's value gives; or by which claim an attribute is said. `is`: the values that
 * count; left out: any. Without `when` everybody gets what it gives.
 */
export type AdmissionRule =
  | { readonly requires: Claim; readonly is?: readonly string[]; readonly words: string }
  | { readonly when?: Claim; readonly is?: readonly string[]; readonly gives: AdmissionGives }
  | { readonly says: string; readonly by: Claim; readonly as?: Readonly<Record<string, unknown>> };

/** How a provider is reached, and by what it is known. Another issuer, client or subject is another connection. */
export type ConnectionTerms =
  | {
      readonly kind: 'oidc';
      /** As it stands in its discovery document: `https://sign-in.county.example`. */
      readonly issuer: string;
      readonly clientId: string;
      /** Asked for besides `openid`. Default `profile email`. */
      readonly scopes?: readonly string[];
    }
  | {
      readonly kind: 'saml';
      /** The provider's entity id. */
      readonly issuer: string;
      readonly signOnUrl: string;
      /** PEM: one, or two while one rolls over. */
      readonly certificates: readonly string[];
    };

/** Under which claims it stands who somebody is. */
export interface ClaimNames {
  /** What never changes and is given to nobody else. Default: `sub`, or the persistent NameID. */
  readonly subject?: Claim;
  /** Default `email`; it counts in this tenant alone. */
  readonly address?: Claim;
  /** Default `name`. */
  readonly name?: Claim;
  /** What equals the `externalId` under which a directory has named them before. Left out: nobody is looked for there. */
  readonly directory?: Claim;
}

/** Which roles and groups rules name: what they give always, and what claims can stand for. */
export function namedIn(rules: readonly AdmissionRule[]): { readonly roles: ReadonlySet<string>; readonly groups: ReadonlySet<string> } {
  const gives = rules.flatMap((rule) => ('gives' in rule ? [rule.gives] : []));
  const ids = (named: Named) => (typeof named === 'string' ? [named] : Object.values(named.as ?? {}));
  return {
    roles: new Set(gives.flatMap(({ roles = [] }) => roles.map(({ role }) => role))),
    groups: new Set(gives.flatMap(({ groups = [] }) => groups.flatMap(ids))),
  };
}
