import type { LintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';
import type { Decision } from './decision.js';
import type { Facts } from './facts.js';

/** So many hours at most may lie between a sign-in, or a proof, and what is done: what a tenant may choose from. */
export const DEMAND_HOURS = [1, 4, 12, 24, 168] as const;
type DemandHours = (typeof DEMAND_HOURS)[number];

/** What a tenant asks of its members' sign-in, before anything else there. What is left out is not asked. */
export interface Demands {
  /** A second factor, given in this very session. */
  readonly secondFactor?: boolean;
  /** They have signed in, or proven who they are, within so many hours. */
  readonly hours?: DemandHours;
}

/** The obligation that is met by who has shown lately who they are by something of their own: not by what a tenant's provider says. */
export const OWN_SIGN_IN = 'ownSignIn';

/** The obligation that is met by who has shown within so many hours who they are. */
export const signedInWithin = (hours: DemandHours): string => `signedInWithin${hours}h`;

/** What a tenant asks and is not met, as obligations with their sentences. A charter that declares one of the same name says it in its own words. */
export function openDemands(
  { name, demands: { secondFactor, hours }, asksPassword = false }: { readonly name: string; readonly demands: Demands; readonly asksPassword?: boolean },
  fulfilled: readonly string[],
): Pick<Facts, 'demands'> {
  const all: Record<string, string> = {};
  if (asksPassword) all.choosePasswordHere = `choose a new password, as ${name} asks you to.`;
  if (secondFactor) all.secondFactor = `sign in with a second factor, as ${name} asks of everybody.`;
  if (hours !== undefined)
    all[signedInWithin(hours)] = `show again who you are, as ${name} asks of everybody ${hours === 1 ? 'every hour' : `every ${hours} hours`}.`;
  return unmet(all, fulfilled);
}

function unmet(demands: Readonly<Record<string, string>>, fulfilled: readonly string[]): Pick<Facts, 'demands'> {
  const open = Object.entries(demands).filter(([name]) => !fulfilled.includes(name));
  return open.length > 0 ? { demands: Object.fromEntries(open) } : {};
}

/** Every obligation that a charter declares or a tenant can ask: for the question what somebody holds, whatever they have to do first. */
export function everythingMet({ data }: Charter<any>): string[] {
  return [...new Set([...Object.keys(data.obligations), 'choosePasswordHere', 'secondFactor', OWN_SIGN_IN, ...DEMAND_HOURS.map(signedInWithin)])];
}

/** The same person, of whom it is known which obligations they have met. */
export function meeting(facts: Facts, fulfilled: readonly string[]): Facts {
  // As they are read, nothing is met.
  if (fulfilled.length === 0 && facts.fulfilled.length === 0) return facts;
  const { demands = {}, ...rest } = facts;
  return { ...rest, ...unmet(demands, fulfilled), fulfilled };
}

/** What has to be done first, where that is why something was refused. */
export function obligationOf({ code, details }: LintelError): string | undefined {
  return code === 'obligation-open' ? (details.decision as Decision | undefined)?.rule : undefined;
}
