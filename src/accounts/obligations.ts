import { DEMAND_HOURS, OWN_SIGN_IN, signedInWithin } from '../standing/index.js';
import { type Ground, hasGivenFactor, type Row } from './ground.js';

/** Obligations that are worked out from a session, and when each is met. What others a charter names the application tells. */
const OBLIGATIONS: Readonly<Record<string, (ground: Ground, row: Row) => boolean>> = {
  recentSignIn: (ground, row) => row.proven_at.getTime() > ground.recentSince,
  // Who is signed in by a provider has shown by it who they are to nobody but its tenant, which may have it say anything.
  // guard provider-session-sets-no-provider by arrival: A session by an identity provider could set up identity providers.
  [OWN_SIGN_IN]: (ground, row) =>
    /* guard provider-session-sets-no-provider */ row.connection === null &&
    row.proven_at.getTime() > ground.recentSince &&
    (!row.has_factor || hasGivenFactor(row)),
  // What this session gave counts, and not what the account has.
  secondFactor: (_, row) => hasGivenFactor(row),
  choosePassword: (_, row) => row.must_change !== true,
  acceptTerms: ({ options: { terms }, now }, row) => terms === undefined || terms.from.getTime() > now || row.accepted.includes(terms.version),
  confirmAddress: (_, row) => row.confirmed_at !== null,
};

// guard old-proof-is-old by accounts: A proof of long ago would count as recent.
export const met = (ground: Ground, row: Row): string[] => [
  ...Object.keys(OBLIGATIONS).filter((name) => OBLIGATIONS[name]?.(ground, row)),
  // What tenants ask of their members.
  ...DEMAND_HOURS /* guard old-proof-is-old */.filter((hours) => row.proven_at.getTime() > ground.now - hours * 3_600_000)
    .map(signedInWithin),
];
