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
    why: 'A reach that holds for no record gives nothing to whoever is given it.',
    remedy: 'Correct its rule, or leave it out.',
  },
  'reach-everything': {
    severity: 'warning',
    why: 'A reach that holds for every record reads like a part of them, and is all.',
    remedy: 'Say tenant where all is meant, or correct its rule.',
  },
  'reach-doubled': { severity: 'note', why: 'A reach that lies within another of the same permission adds nothing.', remedy: 'Leave it out.' },
  'limit-never': { severity: 'error', why: 'A limit that holds for no record refuses nothing.', remedy: 'Correct its rule, or leave it out.' },
  'limit-always': {
    severity: 'error',
    why: 'A limit that holds for every record refuses its actions to everybody.',
    remedy: 'Correct its rule, or leave the actions out.',
  },
  'limit-passed-empty': {
    severity: 'warning',
    why: 'A comparison with an empty field is false, so that a record on which the field is empty goes past the limit.',
    remedy: 'Say what is so where it is empty: or(isEmpty, …) refuses there too, and(not(isEmpty), …) lets it pass on purpose.',
  },
  'limits-lock': {
    severity: 'warning',
    why: 'Each of these limits refuses the way out of another: a record on which they hold together is never changed out of them, not even by a keyholder.',
    remedy: 'Leave an action out of one of them, or say lasting where it is meant.',
  },
  'acts-unread': {
    severity: 'error',
    why: 'Every action on a record that is there reaches at most what can be read: this one reaches nothing.',
    remedy: 'Give the role to read what it is to act on.',
  },
  'acts-beyond-read': {
    severity: 'warning',
    why: 'Every action on a record that is there reaches at most what can be read: a part of what is given here counts for nothing.',
    remedy: 'Give the role to read as far, or the action less far.',
  },
  'lost-by-coming-in': {
    severity: 'note',
    why: 'What visitors may, or whoever is signed in and no member, is theirs alone: it is lost by signing in, or by becoming a member, unless it is given to those too.',
    remedy: 'Give it to signedIn and everyMember too, where it is meant for all.',
  },
  'need-missing': { severity: 'warning', why: 'What a permission needs is not given with it, so that it leads nowhere.', remedy: 'Give what is needed too.' },
  'starts-closed': {
    severity: 'error',
    why: 'Whoever holds the role begins at an area that is closed to them.',
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
    why: 'Two who hold what this role may give can raise each other: one gives a role by which the other gives back more than either held.',
    remedy: 'Let the role that is given give nothing further, or less.',
  },
  'raise-alone': {
    severity: 'warning',
    why: 'Whoever holds the role changes a record so that it comes into their own reach, and then does to it what was not given to them on it.',
    remedy: 'Give the action that changes the field no farther than the other, or to others.',
  },
  'needs-apart': {
    severity: 'error',
    why: 'A permission leads nowhere without another, and the charter lets nobody hold both.',
    remedy: 'Correct the need, or the rule that keeps them apart.',
  },
  'apart-in-one': {
    severity: 'error',
    why: 'One role holds together what is to be apart, so that nobody can be given it.',
    remedy: 'Part the role, or the rule.',
  },
  'visitor-acts': { severity: 'warning', why: 'Whoever is no member may change something.', remedy: 'Give it to members, by a role.' },
  'visitor-reads-all': {
    severity: 'warning',
    why: 'Whoever is no member reads every record of every organisation.',
    remedy: 'Give a reach that holds for what is meant for everybody.',
  },
  'keyholder-reaches-past': {
    severity: 'note',
    why: 'Full control reaches every record, also where every role reaches only some.',
    remedy: 'Where even they are not to, say so in a limit.',
  },
  'nobody-can': { severity: 'error', why: 'An action that is done by no channel is done by nobody.', remedy: 'Name a channel, or leave the list out.' },
} as const satisfies Record<string, Told>;

export type ReviewCode = keyof typeof REVIEW_CODES;
