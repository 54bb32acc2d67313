import type { Operation } from './operations.js';

/** What somebody can do who holds an operation: for whoever chooses permissions, and left out of what a browser needs to decide. */
export const SENTENCES: Partial<Record<Operation, string>> = {
  'tenant.rename': 'Changes its name and the line that tells people whom to ask.',
  'tenant.rule': 'Says who may come in by themselves, whether somebody may have several roles, and what is asked of a sign-in.',
  'tenant.close': 'Closes it for everybody; whoever runs the platform can open it again.',
  'unit.arrange': 'Adds and moves units and places members in them, within their own power.',
  'group.arrange': 'Makes groups and says who is in them, within their own power.',
  'role.arrange': 'Makes and changes roles of the organisation’s own, within their own power.',
  'member.read': 'Lists members, their roles and pending invitations.',
  'member.invite': 'Invites by e-mail, with roles within their own power.',
  'member.enrol': 'Makes people members at once, with roles within their own power, and hands them the way to their account.',
  'member.assign': 'Gives and takes roles within their own power.',
  'deputy.name': 'Lets another member do, for a time, what one does with one’s own records.',
  'member.suspend': 'Suspends a member and brings them back; nothing is lost.',
  'member.remove': 'Ends a membership, now or on a day; the records stay.',
  'program.arrange': 'Takes programs in, and gives and ends their keys, within their own power.',
  'access.look': 'Sees the application as another member does, or a made-up one; changes nothing, and sees no more than before.',
  'access.ask': 'Asks whether others may do something, as programs do.',
  'platform.tenants': 'Opens and closes organisations, and sets their plans.',
  'platform.care': 'Goes into any organisation, with a reason, for a limited time; its keyholders are told.',
  'platform.people': 'Takes somebody out of every organisation and erases what names them.',
  'audit.read': 'Sees who changed what, when and why.',
};
