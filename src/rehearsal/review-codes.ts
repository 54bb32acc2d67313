export type Severity = 'error' | 'warning' | 'note';

export interface Told {
  readonly severity: Severity;
  readonly why: string;
  readonly remedy: string;
}

/** What can be found, why it matters, and what to do. */
export const REVIEW_CODES = {
  'reach-empty': {
    severity: 'error',
    why: 'The reach holds for no record, so that it gives nothing.',
    remedy: 'Correct its rule, or leave it out.',
  },
  'reach-everything': {
    severity: 'warning',
    why: 'The reach holds for every record, and reads like a part of them.',
    remedy: 'Say tenant where all is meant, or correct its rule.',
  },
  'reach-doubled': { severity: 'note', why: 'The reach lies within another of the same permission, and adds nothing.', remedy: 'Leave it out.' },
  'limit-never': { severity: 'error', why: 'The limit holds for no record, and refuses nothing.', remedy: 'Correct its rule, or leave it out.' },
  'limit-always': {
    severity: 'error',
    why: 'The limit holds for every record: its actions are refused to everybody.',
    remedy: 'Correct its rule, or leave the actions out.',
  },
  'limit-passed-empty': {
    severity: 'warning',
    why: 'A record on which the field is empty goes past the limit: a comparison with an empty field is false.',
    remedy: 'Say what is so where it is empty: or(isEmpty, …) refuses there too, and(not(isEmpty), …) lets it pass on purpose.',
  },
  'limits-lock': {
    severity: 'warning',
    why: 'Where these limits hold together, each refuses the way out of the other: the record is never changed again, not even by a keyholder.',
    remedy: 'Leave an action out of one of them, or say lasting where it is meant.',
  },
  'acts-unread': {
    severity: 'error',
    why: 'The role acts on records that it cannot read, and so reaches none.',
    remedy: 'Give the role to read what it is to act on.',
  },
  'acts-beyond-read': {
    severity: 'warning',
    why: 'The role acts on more than it can read: that part counts for nothing.',
    remedy: 'Give the role to read as far, or the action less far.',
  },
  'lost-by-coming-in': {
    severity: 'note',
    why: 'Visitors, or people who are no members, may do something that members may not: they lose it when they come in.',
    remedy: 'Give it to signedIn and everyMember too, where it is meant for all.',
  },
  'need-missing': { severity: 'warning', why: 'The permission does not work without another, which is not given with it.', remedy: 'Give what is needed too.' },
  'starts-closed': {
    severity: 'error',
    why: 'The role begins at an area that is closed to it.',
    remedy: 'Give the area, or let them start elsewhere.',
  },
  'role-empty': { severity: 'warning', why: 'The role gives nothing, and nothing may be given by it.', remedy: 'Give it something, or leave it out.' },
  'roles-alike': { severity: 'note', why: 'Two roles give the same: which of them somebody holds makes no difference.', remedy: 'Keep one.' },
  'full-control': {
    severity: 'warning',
    why: 'The role gives every permission everywhere. It is full control without its guards: nobody has to hold it.',
    remedy: 'Give what is needed by name, and let keyholders do the rest.',
  },
  'raise-with-another': {
    severity: 'warning',
    why: 'Two who hold this role can raise each other: one gives a role by which the other gives back more than either held.',
    remedy: 'Let the role that is given give nothing further, or less.',
  },
  'raise-alone': {
    severity: 'warning',
    why: 'Whoever holds the role can change a record into their own reach, and then do to it what they may not do now.',
    remedy: 'Give the action that changes the field no farther than the other, or to others.',
  },
  'needs-apart': {
    severity: 'error',
    why: 'A permission does not work without another, and nobody may hold both.',
    remedy: 'Correct the need, or the rule that keeps them apart.',
  },
  'apart-in-one': {
    severity: 'error',
    why: 'The role holds together what is kept apart: nobody can be given it.',
    remedy: 'Part the role, or the rule.',
  },
  'visitor-acts': { severity: 'warning', why: 'People who are no members may change something.', remedy: 'Give it to members, by a role.' },
  'visitor-reads-all': {
    severity: 'warning',
    why: 'People who are no members read every record of every organisation.',
    remedy: 'Give a reach that holds for what is meant for everybody.',
  },
  'keyholder-reaches-past': {
    severity: 'note',
    why: 'Full control reaches every record, where every role reaches only some.',
    remedy: 'Where even they are not to, say so in a limit.',
  },
  'nobody-can': { severity: 'error', why: 'The action is done by no channel, and so by nobody.', remedy: 'Name a channel, or leave the list out.' },
} as const satisfies Record<string, Told>;

export type ReviewCode = keyof typeof REVIEW_CODES;
