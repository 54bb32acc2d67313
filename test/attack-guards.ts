import type { Planted } from './scope-guards.js';

/** Holes by which members would come to more than they were given, now or later. */
export const ATTACK_GUARDS: readonly Planted[] = [
  ['who is put into a group is not looked at', 'membership/steps/groups.ts', '({ groups: [id], users: people, opened: [id] })', '({})'],
  [
    'a role is edited by whoever may arrange roles',
    'membership/steps/roles.ts',
    'touches: ({ id }) => ({ roles: [id] }),\n    run: async (change, { id, role })',
    'touches: () => ({}),\n    run: async (change, { id, role })',
    'membership/steps/roles.ts',
    '  insistOnContents(change, roles, id, before);\n',
    '',
  ],
  ['who lies below a unit that moves is not looked at', 'membership/steps/units.ts', '({ units: [id], above: below === null ? [] : [below] })', '({})'],
  [
    'a key is made by whoever may give what the program holds',
    'membership/held/power.ts',
    "    edited !== 'all' &&\n    !gain.named &&\n    path.by === 'role' &&\n    !edited.has(path.role) &&\n    !path.included.some((role) => edited.has(role)) &&\n",
    "    path.by === 'role' &&\n",
  ],
  [
    'who stands in for others is not looked at',
    'membership/held/power.ts',
    '[...ownGains(before, after), ...gainsInPlace(before, after)]',
    'ownGains(before, after)',
  ],
  [
    'whoever chooses the base is not looked at',
    'membership/coming/joining.ts',
    '(bases ? { everybody: true, roles: rolesAtBase(actor.charter.data.roles) } : {})',
    '({})',
  ],
  ['an opening counts as held', 'membership/held/power.ts', 'if (grant.only) return b.only !== undefined &&', 'if (grant.only) return true ||'],
  ['units that come to lie within a reach are forgotten', 'membership/held/power.ts', 'units: on.units ? units : []', 'units: []'],
  [
    'whoever comes back is not looked at',
    'membership/coming/accepting.ts',
    "!inviter.now.may('member.invite') || !roles.every((role) => mayGive(inviter, endingBy(role, row.member_until)))",
    "!inviter.now.may('member.invite')",
    'membership/coming/invitations.ts',
    '  insistOnGiving(\n    change.giver,\n    input.roles.map((role) => endingBy(role, memberUntil)),\n  );\n',
    '',
  ],
  ['apart is asked of now alone', 'membership/change/apart.ts', 'momentsOf(was?.course, is.course)', 'momentsOf(was?.course, is.course).slice(0, 1)'],
  ['deputies are not under apart', 'standing/apart.ts', 'facts.standsFor ?? []', '[] as NonNullable<typeof facts.standsFor>'],
  [
    'what is held is judged by now alone',
    'membership/held/power.ts',
    'return momentsOf(before?.course, after.course, giver).map(',
    'return [giver.moments[0] as number].map(',
  ],
  [
    'how long the giver holds it is not looked at',
    'membership/held/power.ts',
    'momentsOf(before?.course, after.course, giver)',
    'momentsOf(before?.course, after.course)',
    'membership/held/giving.ts',
    'return giver.moments.find(',
    'return giver.moments.slice(0, 1).find(',
  ],
  ['a key counts longer than its maker holds what it opens', 'membership/coming/programs.ts', 'moment < held.until', 'moment <= change.at.getTime()'],
];
