import type { ColumnType, Generated } from 'kysely';
import type { LintelTables } from '../server/index.js';

type Moment = ColumnType<Date, Date, Date>;

/** The tables of accounts, beside those of the membership. Keyed by person. */
export interface AccountTables extends LintelTables {
  lintel_credential: {
    person_id: string;
    password_hash: string;
    set_at: Moment;
    /** Somebody who may has asked for another password. */
    must_change: Generated<boolean>;
  };
  lintel_session: {
    /** Told to its owner; the secret is not. */
    id: string;
    token_hash: string;
    person_id: string;
    /** Of the person when it began: it ends where they come to have another. */
    address: string;
    started_at: Moment;
    seen_at: Moment;
    proven_at: Moment;
    expires_at: Moment;
    /** By what its owner showed who they are, as RFC 8176 names it: `pwd`, `otp`. */
    methods: string[];
    /** The tenants that it enters; null: all of the person's. */
    enters: string[] | null;
    /** What its owner knows the device by. */
    label: string | null;
    /** By which connection of its one tenant it was begun; null: by something of their own. */
    connection: string | null;
    /** A second factor is still to come: until then nobody is signed in. */
    is_half: Generated<boolean>;
  };
  /** Wrong tries, by a keyed hash of the address that was typed. */
  lintel_try: { key: string; wrong: number; open_at: Moment; at: Moment };
  /** Devices that have signed in before. */
  lintel_device: { token_hash: string; person_id: string; made_at: Moment };
  /** `who`: the person who came in; of a try that was refused, the keyed hash of the address that was typed. */
  lintel_sign_in: { id: string; who: string; at: Moment; method: string; outcome: 'in' | 'refused'; place: string | null };
  /** A generator of codes (RFC 6238), one a person; `confirmed_at` null until its first code was given, `last_step` the time step of the last that was. */
  lintel_factor: { person_id: string; sealed: string; made_at: Moment; confirmed_at: Date | null; last_step: Generated<number | string> };
  lintel_passkey: { id: string; person_id: string; public_key: string; counter: number | string; label: string | null; made_at: Moment; used_at: Date | null };
  /** What an authenticator is asked to sign, once; `owner`: for what, and whose. */
  lintel_challenge: { hash: string; owner: string; expires_at: Moment };
  lintel_recovery_code: { person_id: string; code_hash: string };
  /** `scope`: empty; or for which tenants, where the session was bound to some: it accepts for these alone. */
  lintel_accepted: { person_id: string; version: string; scope: string; at: Moment };
}
