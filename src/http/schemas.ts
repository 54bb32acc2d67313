import * as z from 'zod';
import type { NewInvitation, Proposal, Step } from '../server/index.js';
import { DEMAND_HOURS } from '../standing/index.js';
import { connectionParts, connectionTerms } from './admission-schemas.js';
import { id, name, value } from './values.js';

export { id, name };

const moment = z.iso.datetime({ offset: true }).describe('ISO 8601, with its zone');
const words = z.record(z.string(), z.string());

export const anchor = z
  .discriminatedUnion('on', [
    z.strictObject({ on: z.literal('tenant') }),
    z.strictObject({ on: z.literal('unit'), unitId: id, name: name.optional() }),
    z.strictObject({ on: z.literal('record'), kind: id, id }),
  ])
  .describe('Where something holds: the whole tenant, a unit and all below it, or one record. It is always written out.')
  .meta({ id: 'Anchor' });

const assignment = z
  .strictObject({
    role: id,
    anchor,
    until: moment.optional(),
    without: z.array(id).max(200).optional().describe('Permissions of the role that this holder does not get by it'),
  })
  .meta({ id: 'Assignment' });
const direct = z.strictObject({ permission: id, reach: id, anchor, until: moment.optional() }).meta({ id: 'DirectPermission' });
const holder = z
  .union([z.strictObject({ user: id }), z.strictObject({ group: id }), z.strictObject({ unit: id })])
  .describe('A member; the people of a group; or those placed at a unit or below')
  .meta({ id: 'Holder' });
const people = z.array(id).max(10_000);
const role = z
  .strictObject({
    label: name,
    sentence: z.string().max(500).optional(),
    includes: z.array(id).max(100).optional(),
    gives: z.array(id).max(100).optional(),
    may: z.record(z.string(), z.array(id).max(50)).optional(),
    startsAt: id.optional(),
  })
  .meta({ id: 'Role' });

export const joining = z
  .strictObject({
    asks: z.boolean().optional().describe('Whoever is signed in may ask to be let in'),
    domains: z.array(z.string().max(253)).max(100).optional(),
    only: z.boolean().optional().describe('Only addresses of these domains come in'),
    open: z.boolean().optional().describe('People with a proven address of these domains come in by themselves, with the roles'),
    roles: z.array(assignment).max(50).optional(),
  })
  .meta({ id: 'Joining' });

const attributes = z
  .record(z.string().max(63), z.union([value, z.array(value).max(1000), z.null()]))
  .describe('By name, as the charter declares them; null takes one back');

export const demands = z
  .strictObject({
    secondFactor: z.boolean().optional().describe('A second factor, given in this very session'),
    hours: z.literal(DEMAND_HOURS).optional().describe('They have signed in, or shown again who they are, within so many hours'),
  })
  .describe('What is asked of every member’s sign-in before anything else. What is left out is not asked.')
  .meta({ id: 'Demands' });

/** What somebody gets besides roles when they come in. */
const gives = {
  groups: z.array(id).max(100).optional(),
  units: z.array(id).max(100).optional(),
  permissions: z.array(direct).max(100).optional(),
  attributes: attributes.optional(),
};

/** One change, as the library takes it: what is not here is refused before anything runs. */
export const step = z
  .discriminatedUnion('do', [
    z.strictObject({ do: z.literal('set-roles'), holder, roles: z.array(assignment).max(200) }),
    z.strictObject({ do: z.literal('set-permissions'), holder, permissions: z.array(direct).max(200) }),
    z.strictObject({ do: z.literal('make-role'), id: id.optional(), role }),
    z.strictObject({ do: z.literal('edit-role'), id, role }),
    z.strictObject({ do: z.literal('drop-role'), id, instead: id.nullable().optional() }),
    z.strictObject({ do: z.literal('make-group'), id: id.optional(), name, people: people.optional() }),
    z.strictObject({ do: z.literal('rename-group'), id, name }),
    z.strictObject({ do: z.literal('set-group'), id, people }),
    z.strictObject({ do: z.literal('drop-group'), id }),
    z.strictObject({ do: z.literal('add-unit'), id: id.optional(), name, below: id.optional() }),
    z.strictObject({ do: z.literal('rename-unit'), id, name }),
    z.strictObject({ do: z.literal('move-unit'), id, below: id.nullable() }),
    z.strictObject({ do: z.literal('set-attributes'), user: id, attributes }),
    z.strictObject({ do: z.literal('place'), user: id, units: z.array(id).max(1000) }),
    z.strictObject({ do: z.literal('suspend'), user: id, until: moment.optional() }),
    z.strictObject({ do: z.literal('restore'), user: id }),
    z.strictObject({ do: z.literal('set-end'), user: id, at: moment.nullable() }),
    z.strictObject({ do: z.literal('remove'), user: id }),
    z.strictObject({ do: z.literal('leave') }),
    z.strictObject({ do: z.literal('make-program'), id: id.optional(), name, responsible: id }),
    z.strictObject({ do: z.literal('entrust-program'), program: id, responsible: id }),
    z.strictObject({ do: z.literal('make-key'), program: id, label: name.optional(), ends: moment.optional() }),
    z.strictObject({ do: z.literal('end-key'), key: id, at: moment.optional() }),
    z.strictObject({ do: z.literal('name-deputy'), of: id, to: id, permissions: z.array(id).min(1).max(200), since: moment.optional(), until: moment }),
    z.strictObject({ do: z.literal('end-deputy'), of: id, to: id }),
    z.strictObject({ do: z.literal('close-tenant') }),
    z.strictObject({
      do: z.literal('set-rules'),
      oneRole: z.boolean().optional(),
      joining: joining.optional(),
      bases: z.record(id, id).optional(),
      demands: demands.optional(),
    }),
    z.strictObject({
      do: z.literal('invite'),
      address: z.string().max(320),
      name: name.optional(),
      roles: z.array(assignment).max(50),
      memberUntil: moment.optional(),
      ...gives,
    }),
    z.strictObject({
      do: z.literal('expect'),
      address: z.string().max(320),
      name: name.optional(),
      roles: z.array(assignment).max(50),
      memberUntil: moment.optional(),
      ...gives,
    }),
    z.strictObject({
      do: z.literal('enrol'),
      id: id.optional(),
      address: z.string().max(320),
      name,
      roles: z.array(assignment).max(50),
      memberUntil: moment.optional(),
    }),
    z.strictObject({ do: z.literal('make-activation'), user: id }),
    z.strictObject({ do: z.literal('ask-password'), user: id }),
    z.strictObject({ do: z.literal('let-in'), user: id, roles: z.array(assignment).max(50) }),
    z.strictObject({ do: z.literal('turn-away'), user: id }),
    z.strictObject({ do: z.literal('send-again'), invitation: id }),
    z.strictObject({ do: z.literal('withdraw'), invitation: id }),
    z.strictObject({ do: z.literal('make-connection'), id: id.optional(), name, terms: connectionTerms, ...connectionParts }),
    z.strictObject({ do: z.literal('edit-connection'), id, name: name.optional(), terms: connectionTerms.optional(), ...connectionParts }),
    z.strictObject({ do: z.literal('turn-connection'), id, to: z.enum(['on', 'off']) }),
    z.strictObject({ do: z.literal('drop-connection'), id }),
    z.strictObject({ do: z.literal('claim-domain'), domain: z.string().max(253) }),
    z.strictObject({ do: z.literal('send-domain'), domain: z.string().max(253), connection: id.nullable() }),
    z.strictObject({ do: z.literal('give-up-domain'), domain: z.string().max(253) }),
    z.strictObject({ do: z.literal('unbar'), connection: id, subject: z.string().min(1).max(255) }),
    z.strictObject({ do: z.literal('hand-over'), from: id, to: id, kinds: z.array(id).min(1).max(100) }),
    z.strictObject({
      do: z.literal('open-records'),
      id: id.optional(),
      group: id,
      to: holder,
      kind: id,
      actions: z.array(id).max(100),
      keeps: z.boolean(),
      until: moment.optional(),
    }),
    z.strictObject({ do: z.literal('close-records'), id }),
    z.strictObject({ do: z.literal('rename-tenant'), name: name.optional(), contact: name.optional() }),
  ])
  .meta({ id: 'Step' });

/** The steps of this schema are those of the library, and all of them. */
type Same<A, B> = [A] extends [B] ? ([B] extends [A] ? true : false) : false;
const everyStep: Same<z.infer<typeof step>['do'], Step['do']> = true;
void everyStep;

/** So many ids, names and words in all may steps have. */
const MOST_IN_ALL = 20_000;
const wordsIn = (value: unknown): number =>
  typeof value === 'object' && value !== null ? Object.values(value).reduce((sum: number, one) => sum + wordsIn(one), 0) : 1;

export const steps: z.ZodType<readonly Step[], readonly Step[]> = z
  .array(step)
  .min(1)
  .max(100)
  .refine((all) => wordsIn(all) <= MOST_IN_ALL, { error: `has more than ${MOST_IN_ALL} ids and words in all; send parts of it`, abort: true })
  .describe(`At most 100, with ${MOST_IN_ALL} ids and words in all`);
const reason = z.string().max(2000).optional().describe('Why, for the record');
export const change = z.strictObject({ steps, reason });

const problem = z.looseObject({ code: z.string(), message: z.string(), obligation: z.string().optional() });
const proposalParts = z.looseObject({
  tenantId: id,
  steps,
  reason,
  at: z.string(),
  effects: z.array(
    z.looseObject({
      people: z.looseObject({ count: z.number(), some: z.array(z.looseObject({ id: z.string(), name: z.string() })) }),
      fullControl: z.enum(['gains', 'loses']).optional(),
      from: z.string().optional().describe('From when on; absent: at once'),
      until: z.string().optional().describe('Until when; absent: for good'),
      permissions: z.array(
        z.looseObject({
          permission: z.string(),
          label: z.string(),
          was: z.array(z.string()),
          becomes: z.array(z.string()),
          change: z.enum(['gains', 'loses', 'differs']),
          records: z
            .looseObject({
              was: z.number(),
              becomes: z.number(),
              examples: z.array(z.looseObject({ id: z.string(), label: z.string().nullable() })),
            })
            .nullable()
            .optional(),
        }),
      ),
    }),
  ),
  people: z.number(),
  handed: z.array(z.looseObject({ kind: id, called: z.string(), from: id, to: id, handed: z.number(), left: z.number() })).optional(),
  problems: z.array(problem),
  basis: z.looseObject({ latest: z.string(), charter: z.string(), exactly: z.string() }),
});
export const proposal: z.ZodType<Proposal, Proposal> = proposalParts
  .describe('What a change would do. Sent back as it is, it is carried out if it would do the same now.')
  .meta({ id: 'Proposal' });

/** What would become of people, where there is nothing to carry out. */
export const effects = z.looseObject({ ...proposalParts.shape, steps: z.array(step).max(0) });
export const remedy = z
  .looseObject({
    words: z.string(),
    steps: steps.optional(),
    change: z.looseObject({ field: z.string(), value: z.unknown() }).optional(),
    opens: z.looseObject({ permissions: z.number(), records: z.number() }).optional(),
    refused: z.string().optional().describe('Why the caller may not make it'),
    proposal: proposal.optional().describe('Sent back to /changes, it is carried out'),
  })
  .meta({ id: 'Remedy' });

export const remedies = z.object({ allowed: z.boolean(), cause: z.string().optional(), remedies: z.array(remedy) });

export const appeal = z
  .looseObject({
    id: z.string(),
    userId: z.string(),
    name: z.string(),
    action: z.string(),
    recordId: z.string(),
    words: z.string().nullable(),
    status: z.enum(['open', 'agreed', 'declined', 'withdrawn', 'expired']),
    raisedAt: moment,
    expiresAt: moment,
    answeredAt: moment.nullable(),
    reason: z.string().nullable(),
  })
  .meta({ id: 'Appeal' });

export const done = z.array(
  z.looseObject({ what: z.string(), event: z.record(z.string(), z.unknown()), id: z.string().optional(), secret: z.string().optional() }),
);

export const newInvitation: z.ZodType<NewInvitation, NewInvitation> = z
  .strictObject({ address: z.string().max(400), name: name.optional(), roles: z.array(assignment).max(50), memberUntil: moment.optional(), ...gives })
  .meta({ id: 'NewInvitation' });
export const invited = z.looseObject({
  address: z.string(),
  outcome: z.enum(['invited', 'already a member', 'already pending', 'refused']),
  words: z.string(),
  code: z.string().optional(),
  invitationId: z.string().optional(),
  token: z.string().optional(),
});

const heldRole = z.looseObject({
  role: z.string(),
  anchor: z.looseObject({ on: z.string() }),
  label: z.string(),
  until: z.string().optional(),
  without: z.array(z.string()).optional(),
});
export const member = z
  .looseObject({
    userId: z.string(),
    name: z.string(),
    address: z.string(),
    status: z.enum(['active', 'suspended']),
    since: moment,
    roles: z.array(heldRole),
    endsAt: moment.optional(),
    suspendedUntil: moment.optional(),
    attributes: z
      .record(z.string(), z.looseObject({ by: z.enum(['source', 'people', 'member']) }))
      .optional()
      .describe('By name, with whose word it is; for whoever may change roles'),
    kept: z.enum(['waiting', 'theirs']).optional().describe('An account that the organisation made and keeps'),
    lastEntered: moment.optional().describe('For whoever may suspend them'),
  })
  .meta({ id: 'Member' });
export const invitation = z
  .looseObject({
    id: z.string(),
    address: z.string(),
    name: z.string().nullable(),
    roles: z.array(heldRole),
    gives: z.looseObject({}).describe('Groups, units, permissions and attributes that come with it'),
    status: z.enum(['pending', 'accepted', 'declined', 'withdrawn', 'expired']),
    invitedAt: moment,
    expiresAt: moment,
    memberUntil: moment.optional(),
    mail: z.enum(['waiting', 'sent', 'given up', 'none']),
  })
  .meta({ id: 'Invitation' });
const lineProblems = z
  .array(z.looseObject({ line: z.number(), column: z.string().optional(), code: z.string(), words: z.string() }))
  .describe('What is wrong in the list, line by line; then nothing was done');
export const handed = z.looseObject({
  problems: lineProblems,
  handed: z.number().optional(),
  same: z.number().optional(),
  refused: z.array(z.looseObject({ record: z.string(), code: z.string(), words: z.string() })).optional(),
});
export const brought = z.looseObject({
  problems: lineProblems,
  invited: z.number().optional(),
  changed: z.number().optional(),
  same: z.number().optional(),
  refused: z.array(z.looseObject({ address: z.string(), code: z.string(), words: z.string() })).optional(),
});
export const ways = z.array(z.looseObject({ reach: z.string(), anchor: z.looseObject({ on: z.string() }), path: z.looseObject({ by: z.string() }) }));
export const held = z
  .looseObject({ line: z.string(), permissions: z.array(z.looseObject({ permission: z.string(), label: z.string(), ways })) })
  .meta({ id: 'Held' });
const named = z.looseObject({ id: z.string(), name: z.string() });
export const roleView = z.looseObject({
  id: z.string(),
  label: z.string(),
  own: z.boolean(),
  holders: z.array(z.looseObject({ on: z.string(), id: z.string(), name: z.string(), people: z.number() })),
});
export const group = z.looseObject({ id: z.string(), name: z.string(), people: z.array(named) });
export const unit = z.looseObject({ id: z.string(), name: z.string(), below: z.string().nullable(), people: z.array(named) });
export const givenAlone = z.looseObject({
  on: z.string(),
  id: z.string(),
  name: z.string(),
  permission: z.string(),
  reach: z.string(),
  anchor: z.looseObject({}),
});
export const opening = z.looseObject({
  id: z.string(),
  group: named,
  to: z.looseObject({ on: z.string(), id: z.string(), name: z.string() }),
  kind: z.string(),
  actions: z.array(z.string()),
  keeps: z.boolean(),
  until: moment.optional(),
});
export const deputy = z.looseObject({ of: named, to: named, permissions: z.array(z.string()), since: moment, until: moment });
export const joinRequest = z.looseObject({
  userId: z.string(),
  name: z.string(),
  address: z.string(),
  addressProven: z.boolean(),
  words: z.string().nullable(),
  askedAt: moment,
  expiresAt: moment,
});
export const lookAs = z.union([
  z.strictObject({ user: id, tries: z.boolean().optional(), reason: z.string().max(500).optional() }),
  z.strictObject({
    roles: z.array(assignment).max(50).optional(),
    groups: z.array(id).max(100).optional(),
    units: z.array(id).max(100).optional(),
    reason: z.string().max(500).optional(),
  }),
]);
export const program = z.looseObject({
  id: z.string(),
  name: z.string(),
  responsible: named,
  keys: z.array(z.looseObject({ id: z.string(), label: z.string(), madeAt: moment, endsAt: moment, lastUsedAt: moment.nullable() })),
});
export const auditEvent = z.looseObject({
  number: z.number().optional().describe('Absent for a reader who sees a part of the record'),
  at: moment,
  actor: z.string().nullable(),
  what: z.string(),
  event: z.record(z.string(), z.unknown()),
  words: words.nullable(),
  hash: z.string(),
});
export const auditVerdict = z.looseObject({
  events: z.number(),
  head: z.string(),
  erased: z.number(),
  broken: z.looseObject({ number: z.number(), why: z.string() }).optional(),
});
export const problemDetails = z
  .looseObject({ type: z.string(), title: z.string(), status: z.number(), detail: z.string(), code: z.string(), obligation: z.string().optional() })
  .describe('RFC 9457. `code` is stable, for programs; `obligation`, where it is `obligation-open`, is what has to be done first.')
  .meta({ id: 'Problem' });

/** A page of a list, and how to go on: null at the end. */
export const pageOf = <T extends z.ZodType>(item: T) => z.looseObject({ items: z.array(item), next: z.string().nullable() });
export const paging = z.object({
  after: z.string().max(500).optional().describe('The `next` of the page before'),
  limit: z.coerce.number<number>().int().min(1).max(200).default(50),
});
export const membersAsked = paging.extend({
  order: z.enum(['name', 'newest']).default('name').describe('By name, or who came last first'),
  search: z.string().max(100).optional().describe('Beginnings of words of their name or address, all of which have to be met'),
});
export const eventsAsked = paging.extend({
  order: z.enum(['newest', 'oldest']).default('newest'),
  by: z.string().max(200).optional().describe('Only what this person did'),
  about: z.string().max(200).optional().describe('Only what was done to this person'),
  what: z.string().max(100).optional().describe('Only events of this sort, as `what` calls it'),
});
