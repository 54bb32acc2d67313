export { maskAddress, readAddress, readName } from './address.js';
export { auditHash, commitmentTo, inTransaction, type Setting } from './change.js';
export { readFacts } from './facts.js';
export { rolesToGive } from './giving.js';
export {
  accept,
  decline,
  type Invitation,
  type InvitationView,
  type InviteAnswer,
  invite,
  listInvitations,
  lookAtInvitation,
  myInvitations,
  myTenants,
  type NewInvitation,
  renewToken,
  sendAgain,
  withdraw,
} from './invitations.js';
export { leaveTenant, listMembers, type Member, removeMember, setRoles } from './members.js';
export { addPerson, type NewPerson, personByAddress } from './people.js';
export type { LintelTables } from './tables.js';
export { addUnit, type NewTenant, openTenant, placeMember, renameTenant } from './tenants.js';
