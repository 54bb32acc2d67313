import type { ColumnType, Generated, JSONColumnType } from 'kysely';
import type { RoleData } from '../../charter/index.js';
import type { Demands, Facts } from '../../standing/index.js';
import type { AdmissionRule, ClaimNames, ConnectionTerms } from './admission.js';
import type {
  AddressHeldRow,
  AddressProofRow,
  AnswerRow,
  AuditRow,
  AuditWordsRow,
  CharterRow,
  LinkRow,
  ListenerRow,
  MailedRow,
  Moment,
  OptionalMoment,
  OutboxRow,
  UnheardRow,
} from './record-tables.js';
import type { Gives } from './step.js';

/** Somebody with an account, whatever tenants they belong to. Keyed by person. */
export interface PersonRow {
  id: string;
  name: string;
  /** Normalised: what is compared. */
  address: string;
  /** As it was written: what mail is sent to. */
  address_written: string;
  /** When the address was proven to be theirs. */
  confirmed_at: OptionalMoment;
  /** Since when the account is deactivated everywhere; null: it is not. */
  deactivated_at: OptionalMoment;
  /** True for a program, whose id looks like anybody's: it belongs to the tenant that made it, and to no other. */
  is_program: Generated<boolean>;
  /** The tenant that made the account and keeps it: it has no address of its own, and enters no other. */
  kept_by: ColumnType<string | null, string | null | undefined, never>;
  /** Of a kept account: since when it has been somebody's. */
  activated_at: OptionalMoment;
}

/** How somebody comes to an account that a tenant keeps: once, by what was handed to them. */
interface ActivationRow {
  tenant_id: string;
  user_id: string;
  secret_hash: string;
  made_by: string;
  expires_at: Moment;
}

/** When a member last came into a tenant. */
interface EnteredRow {
  tenant_id: string;
  user_id: string;
  at: Moment;
}

/** Which tenants a person belongs to: a copy of `lintel_member`, keyed by person. */
interface PersonTenantRow {
  person_id: string;
  tenant_id: string;
}

interface TenantRow {
  id: string;
  name: string;
  status: 'open' | 'closed';
  contact: string | null;
  /** Where its records are; null: where they all are, or nowhere yet. */
  place: ColumnType<string | null, string | null | undefined, string>;
  features: JSONColumnType<string[], string | undefined, string>;
  /** People who may be members; null: as many as come. */
  seats: ColumnType<number | null, number | null | undefined, number | null>;
  /** True: a member has at most one role. */
  one_role: Generated<boolean>;
  /** Who may come in without an invitation. */
  joining: JSONColumnType<Partial<JoiningRow>, string | undefined, string>;
  /** By kind, which reach is meant by `base`. */
  bases: JSONColumnType<Record<string, string>, string | undefined, string>;
  demands: JSONColumnType<Demands, string | undefined, string>;
  /** Number of the tenant's latest change; taking the next one locks the row. */
  last_number: Generated<number | string>;
  /** Hash of the latest audit event, on which the next one is chained. */
  last_hash: Generated<string>;
}

/** Who may come in without an invitation, as it is kept. What is absent is not so. */
export interface JoiningRow {
  /** Whoever is signed in may ask to be let in. */
  asks: boolean;
  /** Domains of addresses. */
  domains: string[];
  /** Only addresses of these domains come in, by whatever way. */
  only: boolean;
  /** People with a proven address of these domains come in by themselves, with these roles. */
  open: boolean;
  roles: InvitedRole[];
  /** Who said so: what they may no longer give is not given. */
  by: string;
}

/** Somebody who asks to be let in. */
interface RequestRow {
  tenant_id: string;
  user_id: string;
  words: string | null;
  asked_at: Moment;
  expires_at: Moment;
}

/** An action that somebody was refused and asks for. */
interface AppealRow {
  tenant_id: string;
  id: string;
  user_id: string;
  action: string;
  record_id: string;
  words: string | null;
  status: 'open' | 'agreed' | 'declined' | 'withdrawn';
  raised_at: Moment;
  expires_at: Moment;
  answered_by: string | null;
  answered_at: Moment | null;
  reason: string | null;
}

/** Somebody looks as another: as a member, or as the facts of somebody made up say. */
interface LookRow {
  tenant_id: string;
  id: string;
  by_id: string;
  care_id: string | null;
  user_id: string | null;
  facts: JSONColumnType<Facts, string, string> | null;
  until: Moment;
  /** What says that it may be tried is. */
  tries: Generated<boolean>;
}

/** Somebody stands in for another, from one moment to another. */
interface DeputyRow {
  tenant_id: string;
  of_id: string;
  to_id: string;
  permissions: JSONColumnType<string[], string, string>;
  since: Moment;
  until: Moment;
}

/** Somebody of the platform looks after a tenant. */
interface CareRow {
  tenant_id: string;
  id: string;
  person_id: string;
  may: JSONColumnType<string[], string, string>;
  since: Moment;
  until: Moment;
}

interface MemberRow {
  tenant_id: string;
  user_id: string;
  /** As the person is called: a copy that the database keeps, by which members are listed. */
  name: Generated<string>;
  status: 'active' | 'suspended';
  since: Moment;
  /** By source, what it says of the member. */
  attributes: JSONColumnType<Record<string, Record<string, unknown>>, string | undefined, string>;
  /** Sources that say that the member is not active. */
  inactive_by: Generated<string[]>;
  /** A suspension ends by itself at this moment; null: it does not. */
  suspended_until: OptionalMoment;
  /** The membership ends by itself at this moment; null: it does not. */
  ends_at: OptionalMoment;
  /** Set for a program: the member who answers for it, and with whom it is suspended. */
  responsible_id: ColumnType<string | null, string | null | undefined, string>;
  /** Somebody who may has asked them to choose another password. */
  asked_password: Generated<boolean>;
  /** A directory has named them, and they have not come yet: they take no seat. */
  expected: Generated<boolean>;
}

/** A key by which a program comes in. */
interface KeyRow {
  tenant_id: string;
  id: string;
  program_id: string;
  label: string;
  secret_hash: string;
  made_by: string;
  made_at: Moment;
  ends_at: Moment;
  last_used_at: OptionalMoment;
  /** Made while its program had the right to `directory.write`. */
  for_directory: Generated<boolean>;
}

/** A role, or one permission at one reach, held by a person, a group or a unit: exactly one of each. */
export interface AssignmentRow {
  tenant_id: string;
  user_id: string | null;
  group_id: ColumnType<string | null, string | null | undefined, string | null>;
  /** Held by the people who are placed at this unit or below. */
  unit_id: ColumnType<string | null, string | null | undefined, string | null>;
  role: string | null;
  permission: ColumnType<string | null, string | null | undefined, string | null>;
  reach: ColumnType<string | null, string | null | undefined, string | null>;
  anchor: 'tenant' | 'unit' | 'record';
  /** The tenant's or the unit's id, or `kind:id` of a record: an anchor is always written out. */
  anchor_id: string;
  until: OptionalMoment;
  /** Permissions of the role that this holder does not get by it. */
  without: JSONColumnType<string[], string | undefined, string>;
  /** By what it came; empty: somebody here gave it. */
  source: Generated<string>;
}

/** A role of the tenant's own. */
interface RoleRow {
  tenant_id: string;
  id: string;
  data: JSONColumnType<RoleData, string, string>;
  /** Roles of the tenant's own that it includes, directly or through others. */
  included: JSONColumnType<string[], string | undefined, string>;
}

interface OpeningRow {
  tenant_id: string;
  id: string;
  /** The group whose people's records are opened. */
  group_id: string;
  /** To whom: exactly one of the three. */
  to_user: string | null;
  to_group: string | null;
  to_unit: string | null;
  kind: string;
  actions: JSONColumnType<string[], string, string>;
  until: OptionalMoment;
  /** True: what somebody owns stays open when they leave the group. */
  keeps: boolean;
}

/** People whose records an opening keeps open although they left its group. */
interface OpeningKeptRow {
  tenant_id: string;
  opening_id: string;
  user_id: string;
}

interface UnitRow {
  tenant_id: string;
  id: string;
  parent_id: string | null;
  name: string;
}

/** Every unit with every unit at or below it. */
interface UnitBelowRow {
  tenant_id: string;
  above_id: string;
  below_id: string;
}

/** The units in which a member is placed. */
interface PlacementRow {
  tenant_id: string;
  user_id: string;
  unit_id: string;
  source: Generated<string>;
}

interface GroupRow {
  tenant_id: string;
  id: string;
  name: string;
}

/** Who belongs to a group. */
interface GroupMemberRow {
  tenant_id: string;
  group_id: string;
  user_id: string;
  source: Generated<string>;
}

/** A role as an invitation keeps it until it is accepted. */
export interface InvitedRole {
  role: string;
  anchor: AssignmentRow['anchor'];
  anchorId: string;
  until?: string;
  without?: string[];
}

export interface InvitationRow {
  tenant_id: string;
  id: string;
  address: string;
  address_written: string;
  name: string | null;
  roles: JSONColumnType<InvitedRole[], string, string>;
  /** What is given besides roles. */
  gives: JSONColumnType<Gives, string | undefined, string>;
  status: 'pending' | 'accepted' | 'declined' | 'withdrawn' | 'expired';
  /** SHA-256 of the secret; null until a link was made. */
  token_hash: string | null;
  /** Of the secrets in messages that were tried before, and may have arrived. */
  earlier_hashes: JSONColumnType<string[], string | undefined, string>;
  invited_by: string;
  invited_at: Moment;
  expires_at: Moment;
  accepted_by: string | null;
  /** When the membership that comes of it ends by itself. */
  member_until: OptionalMoment;
  /** Nobody was sent anything: it is taken up by who comes by a provider. */
  expected: Generated<boolean>;
}

/** What a source has brought, by the mark of what it said last. */
export interface BroughtRow {
  source: string;
  what: 'person' | 'tenant' | 'member';
  /** Of a member; else empty. */
  tenant_id: string;
  id: string;
  mark: string;
  /** A tenant that nobody has full control of yet. */
  waits: boolean;
}

/** Somebody who has left, while records in another database still name them. */
interface LeavingRow {
  tenant_id: string;
  user_id: string;
  passed_to: ColumnType<string | null, string | null | undefined, never>;
  since: Moment;
}

/** When somebody last wrote to records of which there are copies for reading. */
interface WroteRow {
  tenant_id: string;
  user_id: string;
  at: Moment;
}

/** Who was removed, or left, and comes in again only by somebody who lets them in: no source brings them. */
interface BarRow {
  tenant_id: string;
  user_id: string;
  /** False: they left by themselves, and may come back by themselves. */
  removed: boolean;
}

/** A provider by which people come into a tenant. */
interface ConnectionRow {
  tenant_id: string;
  id: string;
  name: string;
  state: 'draft' | 'on' | 'off';
  terms: JSONColumnType<ConnectionTerms, string, string>;
  /** The client's secret, sealed under a key of the application. */
  sealed: ColumnType<string | null, string | null | undefined, string | null>;
  claims: JSONColumnType<ClaimNames, string | undefined, string>;
  rules: JSONColumnType<AdmissionRule[], string | undefined, string>;
  /** Whose rules they are: what they may no longer give is not given. */
  by_id: string;
  /** A mark of what was tried with claims. */
  tried: ColumnType<string | null, string | null | undefined, string | null>;
}

/** Somebody as a provider knows them: never by an address. */
interface IdentityRow {
  tenant_id: string;
  connection_id: string;
  subject: string;
  /** Null for somebody who was not let in. */
  user_id: string | null;
  /** As the provider says; it counts nowhere else. */
  address: string;
  name: string;
  /** Why what came was not given; a mark of that, and the number of the tenant's latest change then. */
  said: JSONColumnType<{ code: string; words: string; number: number; mark: string } | null, string | null, string | null>;
  at: Moment;
}

/** Who was removed, by a keyed hash of the connection and the subject: it is there also when they are erased. */
interface IdentityBarRow {
  tenant_id: string;
  mark: string;
  user_id: string | null;
}

/** A mail domain that a tenant says is theirs. Who has it stands in `lintel_domain_holder`, which is keyed by domain. */
interface DomainRow {
  tenant_id: string;
  domain: string;
  challenge: string;
  connection_id: ColumnType<string | null, string | null | undefined, string | null>;
  proven_at: OptionalMoment;
  proven_by: ColumnType<'dns' | 'platform' | null, 'dns' | 'platform' | null | undefined, 'dns' | 'platform' | null>;
  seen_at: OptionalMoment;
  looked_at: OptionalMoment;
  lapsed_at: OptionalMoment;
}

/** Somebody as a directory has brought them. */
interface DirectoryUserRow {
  tenant_id: string;
  program_id: string;
  user_id: string;
  /** As it is compared: in lower case. */
  user_name: string;
  external_id: string | null;
  /** What it says of them, as it is kept. */
  resource: JSONColumnType<Record<string, unknown>, string, string>;
  version: Generated<number>;
  made_at: Moment;
  changed_at: Moment;
}

/** A group that a directory has brought. */
interface DirectoryGroupRow {
  tenant_id: string;
  program_id: string;
  group_id: string;
  external_id: string | null;
  version: Generated<number>;
  made_at: Moment;
  changed_at: Moment;
}

/** The library's own tables, as Kysely sees them. */
export interface LintelTables {
  lintel_person: PersonRow;
  lintel_person_tenant: PersonTenantRow;
  lintel_tenant: TenantRow;
  lintel_member: MemberRow;
  lintel_assignment: AssignmentRow;
  lintel_unit: UnitRow;
  lintel_unit_below: UnitBelowRow;
  lintel_placement: PlacementRow;
  lintel_group: GroupRow;
  lintel_group_member: GroupMemberRow;
  lintel_role: RoleRow;
  lintel_opening: OpeningRow;
  lintel_opening_kept: OpeningKeptRow;
  lintel_invitation: InvitationRow;
  lintel_outbox: OutboxRow;
  lintel_key: KeyRow;
  lintel_answer: AnswerRow;
  lintel_charter: CharterRow;
  lintel_mailed: MailedRow;
  lintel_link: LinkRow;
  lintel_request: RequestRow;
  lintel_appeal: AppealRow;
  lintel_look: LookRow;
  lintel_care: CareRow;
  lintel_deputy: DeputyRow;
  lintel_address_proof: AddressProofRow;
  lintel_listener: ListenerRow;
  lintel_unheard: UnheardRow;
  lintel_brought: BroughtRow;
  lintel_bar: BarRow;
  lintel_leaving: LeavingRow;
  lintel_wrote: WroteRow;
  lintel_activation: ActivationRow;
  lintel_connection: ConnectionRow;
  lintel_domain: DomainRow;
  lintel_domain_holder: { domain: string; tenant_id: string };
  lintel_directory_user: DirectoryUserRow;
  lintel_directory_group: DirectoryGroupRow;
  /** What a directory says and nobody here knows. */
  lintel_directory_unknown: { tenant_id: string; program_id: string; what: string; at: Moment };
  lintel_identity: IdentityRow;
  lintel_identity_bar: IdentityBarRow;
  /** Answers of providers that were used, by their marks, until they would not count any more. */
  lintel_used: { mark: string; until: Moment };
  lintel_entered: EnteredRow;
  lintel_erased: { person_id: string };
  lintel_secret: { name: string; value: string };
  lintel_address_held: AddressHeldRow;
  lintel_audit: AuditRow;
  lintel_audit_words: AuditWordsRow;
}
