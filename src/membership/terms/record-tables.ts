/* Tables of what is sent and of what is put on record. */
import type { ColumnType, Generated, JSONColumnType } from 'kysely';

export type Moment = ColumnType<Date, Date | string, Date | string>;
export type OptionalMoment = ColumnType<Date | null, Date | string | null | undefined, Date | string | null>;

/** An address that somebody wants to have, until it is proven. Keyed by person. */
export interface AddressProofRow {
  person_id: string;
  address: string;
  address_written: string;
  /** Null until a link was made. */
  secret_hash: string | null;
  expires_at: Moment;
}

/** An address that somebody had before, and until when. */
export interface AddressHeldRow {
  person_id: string;
  address: string;
  until: Moment;
}

/** A link that was asked for, to an address: one of each use, of which the newest counts. Keyed by address. */
export interface LinkRow {
  id: string;
  what: string;
  /** Normalised. */
  address: string;
  /** Null until it was sent, and after it was used. */
  secret_hash: string | null;
  asked_at: Moment;
  /** Counted from sending. */
  expires_at: OptionalMoment;
}

/** Messages that went to an address, from whatever tenant. Keyed by address. */
export interface MailedRow {
  address: string;
  at: Moment;
  id: string;
  /** Links have a count of their own. */
  is_link: Generated<boolean>;
}

export interface OutboxRow {
  tenant_id: string;
  number: number | string;
  /** Several messages of one change are told apart by it. */
  part: Generated<number>;
  /** The invitation that the message is about; or else, what is told to which address. */
  invitation_id: string | null;
  notice: ColumnType<string | null, string | null | undefined, string>;
  to_address: ColumnType<string | null, string | null | undefined, string>;
  /** Of whom it speaks; null for an invitation. */
  about_id: ColumnType<string | null, string | null | undefined, string>;
  of: JSONColumnType<Record<string, string>, string | undefined, string>;
  state: Generated<'waiting' | 'sent' | 'given up'>;
  tries: Generated<number>;
  next_at: Moment;
  last_error: string | null;
  queued_at: Moment;
}

/** How far a listener of the application was told what changed in a tenant. */
export interface ListenerRow {
  tenant_id: string;
  name: string;
  number: Generated<number | string>;
  tries: Generated<number>;
  next_at: Moment;
}

/** An event at which a listener failed again and again. */
export interface UnheardRow {
  tenant_id: string;
  name: string;
  number: number | string;
  error: string;
  at: Moment;
}

export interface AuditRow {
  tenant_id: string;
  number: number | string;
  at: Moment;
  actor: string | null;
  what: string;
  /** Ids and values before and after, without a name, an address or free text. */
  event: JSONColumnType<Record<string, unknown>, string, string>;
  /** Salted hash of the words that lie beside. */
  commitment: string;
  previous_hash: string;
  hash: string;
}

/** Names, addresses and reasons of an event: they can be erased, and the chain stays whole. */
export interface AuditWordsRow {
  tenant_id: string;
  number: number | string;
  salt: string;
  words: JSONColumnType<Record<string, string>, string, string>;
}

/** Charters in the order in which the application started with them. */
export interface CharterRow {
  at: Moment;
  hash: string;
  data: JSONColumnType<Record<string, unknown>, string, string>;
}

/** What was answered to a request that names a key of its own, so that the same one again does nothing and is answered alike. */
export interface AnswerRow {
  tenant_id: string;
  actor: string;
  key: string;
  /** Hash of the request. */
  request: string;
  answer: JSONColumnType<unknown[], string | undefined, string>;
  at: Moment;
}
