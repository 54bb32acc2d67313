import { KEYHOLDER } from '../../charter/index.js';
import type { Assignment } from '../../standing/index.js';
import { type Change, insistOnDomain, insistOnRules } from '../change/index.js';
import { endingBy, insistOnGiving } from '../held/index.js';
import { assignmentRows, keyholderEnds, readUntil } from '../steps/index.js';
import { type Gives, type InvitedRole, inOneSpelling, readAddress, readName } from '../terms/index.js';
import { insistOnMore } from './ahead.js';
import { onlyGives } from './gives.js';

export interface NewInvitation extends Gives {
  readonly address: string;
  readonly name?: string;
  /** What they will hold once they accept. An empty list is none. */
  readonly roles: readonly Assignment[];
  /** When the membership that comes of it ends by itself, ISO 8601. */
  readonly memberUntil?: string;
}

/** An invitation that may be made, as far as can be said without looking at others. */
export interface Ready {
  readonly address: ReturnType<typeof readAddress>;
  readonly name: string | null;
  readonly roles: readonly InvitedRole[];
  readonly memberUntil: Date | null;
  readonly gives: Gives;
  /** What of it goes on record, and in what words. */
  readonly event: Readonly<Record<string, unknown>>;
  readonly words: Readonly<Record<string, string>>;
}

type Given = Omit<Ready, 'address' | 'name'>;

/** What somebody is to hold, if the inviter may give it. */
async function readGiven(change: Change, input: NewInvitation): Promise<Given> {
  const memberUntil = readUntil(input.memberUntil, change);
  // guard returning-member-compared
  insistOnGiving(
    change.giver,
    input.roles.map((role) => endingBy(role, memberUntil)),
  );
  insistOnRules(change, input.roles);
  if (memberUntil !== null && input.roles.some(({ role }) => role === KEYHOLDER)) throw keyholderEnds();
  const gives = onlyGives(input);
  await insistOnMore(change, input.roles, gives);
  const roles = await keptRoles(change, input.roles);
  const { attributes, ...held } = gives;
  return {
    roles,
    memberUntil,
    gives,
    event: { roles, ...held, ...(memberUntil && { memberUntil: memberUntil.toISOString() }) },
    words: attributes ? { attributes: JSON.stringify(attributes) } : {},
  };
}

/** Reads invitations one after the other. Most are to hold the same: that is looked at once. */
export function reading(change: Change): (input: NewInvitation) => Promise<Ready> {
  const known = new Map<string, Promise<Given>>();
  return async (input) => {
    const address = readAddress(input.address);
    const name = input.name === undefined || input.name.trim() === '' ? null : readName(input.name, 'the invited person');
    insistOnDomain(change, address.normal);
    const { address: _, name: __, ...given } = input;
    const key = JSON.stringify(given);
    const read = known.get(key) ?? readGiven(change, inOneSpelling(change.setting.charter, input));
    known.set(key, read);
    return { address, name, ...(await read) };
  };
}

/** Roles as they are kept for somebody who is still to come; each is checked. */
export async function keptRoles(change: Change, roles: readonly Assignment[]): Promise<InvitedRole[]> {
  const rows = await assignmentRows(change, roles);
  return rows.map(({ role, anchor, anchor_id, until, without }) => ({
    role,
    anchor,
    anchorId: anchor_id,
    ...(until && { until: until.toISOString() }),
    ...(without.length > 0 && { without: [...without] }),
  }));
}
