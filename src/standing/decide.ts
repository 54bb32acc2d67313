import { type Charter, type Permission, restsOnRead } from '../charter/index.js';
import { ALWAYS, blame, compile, type Predicate, print, type RecordData, type Verdict, valueWords } from '../predicate/index.js';
import type { Could, Decision, LookedAt, Outcome } from './decision.js';
import { type Grant, ruleOf } from './grants.js';
import type { GrantReach, Image, Reaches } from './reach.js';
import { aKeyholder, inSentence, say, type Words } from './words.js';

export interface Question {
  readonly permission: Permission;
  /** The record; for `create` the record to be, already stamped. Absent: could there be one? */
  readonly record?: RecordData;
  /** Default `before`: the record as it is. */
  readonly image?: Image;
  /** Fields that are to be changed. */
  readonly touching: readonly string[];
  /** What the server answered of this record, where it did: for what this side cannot know. */
  readonly attached?: (permission: string) => Could['allowed'] | undefined;
  readonly now: () => number;
}

/** What is the case, with the value that the record has: `keeper is not “tobias” (it is “sela”)`. */
function caseOf(part: Predicate, wanted: boolean, record: RecordData): string {
  const line = print(part, !wanted);
  const value = 'field' in part ? record[part.field] : 'via' in part ? record[part.via] : undefined;
  if (value === undefined) return `${line} (not loaded)`;
  return part.op === 'isEmpty' || value === null || typeof value === 'object' ? line : `${line} (it is ${valueWords(value)})`;
}

/** The rule of a grant as the charter says it; of an opening, whose records it opens. */
function ruleWords(charter: Charter, kind: string, grant: Pick<Grant, 'reach' | 'only' | 'path'>, voice?: 'you'): string {
  if (grant.path.by === 'opening') return `owner is one of ${grant.path.group}`;
  return print(ruleOf(charter, kind, grant), true, voice);
}

function lookAt(reaches: Reaches, kind: string | undefined, found: readonly GrantReach[], record: RecordData | undefined): LookedAt[] {
  return found.map(({ grant, where }) => {
    if (!kind) return { ...grant, holds: true, where: 'always', failed: [] };
    const { shapes } = reaches.charter;
    const holds = record ? compile(where, kind, shapes)(record) : where.op !== 'never';
    const failed = record && holds !== true ? blame(where, record, kind, shapes).map(({ part, wanted }) => caseOf(part, wanted, record)) : [];
    // The rule as the charter says it; what failed of it is said for this person and record.
    return { ...grant, holds, where: ruleWords(reaches.charter, kind, grant), failed };
  });
}

function grantsWithReach(reaches: Reaches, permission: Permission): readonly GrantReach[] {
  if (permission.kind) return reaches.action(permission).grants;
  return reaches.grantsFor(permission).map((grant) => ({ grant, where: ALWAYS }));
}

/** Three answers as one: any yes wins, else any open question keeps it open. */
function anyOf(verdicts: readonly Verdict[]): Verdict {
  return verdicts.includes(true) ? true : verdicts.includes(undefined) ? undefined : false;
}

interface Found {
  readonly outcome: Outcome;
  readonly rule?: string;
  readonly needs?: string;
}

/** A permission that a question rests on, with the grants of it that were looked at. */
interface Asked {
  readonly permission: Permission;
  readonly looked: readonly LookedAt[];
}

function limitThatHolds(reaches: Reaches, permission: Permission, { record, image }: Question): { name?: string; open: boolean } {
  const { kind } = permission;
  let open = false;
  for (const { limit, where } of kind ? reaches.action(permission, image).limits : []) {
    const holds = record ? compile(where, kind as string, reaches.charter.shapes)(record) : where.op === 'always';
    if (holds === true) return { name: limit.name, open };
    if (holds === undefined) open = true;
  }
  return { open };
}

function findOutcome(reaches: Reaches, q: Question, asked: readonly Asked[]): Found {
  const { record } = q;
  const { facts } = reaches;
  const { kind } = q.permission;
  if (!facts.tenant.open || facts.subject === 'suspended' || (facts.subject !== 'member' && !reaches.any)) return { outcome: 'no standing' };
  if (facts.expiresAt !== undefined && q.now() >= Date.parse(facts.expiresAt)) return { outcome: 'expired' };
  const mine = kind && record ? reaches.isHere(kind, record) : true;
  if (mine === false) return { outcome: 'other tenant' };
  let open = mine === undefined;
  for (const { permission } of asked) {
    const limit = limitThatHolds(reaches, permission, q);
    if (limit.name !== undefined) return { outcome: 'limit', rule: limit.name };
    open ||= limit.open;
  }
  for (const { permission } of asked) {
    if (reaches.isOnlyLooked(permission)) return { outcome: 'only a look' };
    if (reaches.isElsewhere(permission)) return { outcome: 'other channel', rule: (permission.channels ?? []).join(', ') };
  }
  for (const { permission } of asked) {
    const obligation = reaches.openObligation(permission);
    if (obligation !== undefined) return { outcome: 'obligation', rule: obligation };
  }
  for (const { permission } of asked) if (reaches.lacksFeature(permission)) return { outcome: 'plan', rule: permission.feature as string };
  if (asked.some(({ looked }) => looked.length === 0)) return { outcome: 'no grant' };
  for (const { looked } of asked) {
    const holds = anyOf(looked.map((g) => g.holds));
    if (holds === false) return { outcome: 'out of reach' };
    open ||= holds === undefined;
  }
  const attached = q.attached?.(q.permission.name);
  if (open && attached !== true) return { outcome: attached === false ? 'out of reach' : 'not loaded' };
  if (reaches.viewer && !decide(reaches.viewer, q, undefined).allowed) return { outcome: 'only a look' };
  return guardedField(reaches, q) ?? { outcome: 'allowed' };
}

/** A touched field that takes an action of its own, which this person lacks on this record. */
function guardedField(reaches: Reaches, q: Question): Found | undefined {
  const { permission, record } = q;
  if (!permission.kind) return undefined;
  const { fields } = reaches.charter.kind(permission.kind);
  for (const field of q.touching) {
    const change = fields[field]?.change;
    if (change === undefined || change === permission.action) continue;
    const needs = reaches.charter.permission(`${permission.kind}.${change}`);
    const inner = decide(reaches, { ...q, permission: needs, touching: [], ...(record && { record }) }, undefined);
    if (!inner.allowed) return { outcome: inner.outcome === 'not loaded' ? 'not loaded' : 'guarded field', rule: field, needs: needs.name };
  }
  return undefined;
}

/** Whether the person may know of the record. Without one there is nothing to hide but the tenant itself. */
function visibilityOf(reaches: Reaches, q: Question, found: Found): Decision['visibility'] {
  if (['no standing', 'other tenant'].includes(found.outcome)) return 'hidden';
  const { kind, action } = q.permission;
  if (!kind || !q.record || action === 'create') return 'visible';
  const attached = q.attached?.(`${kind}.read`);
  if (attached !== undefined) return attached === true ? 'visible' : 'hidden';
  return reaches.couldRead(kind, q.record) && reaches.isHere(kind, q.record) === true ? 'visible' : 'hidden';
}

function wordsFor(reaches: Reaches, q: Question, found: Found, hidden: boolean, looked: readonly LookedAt[], label: string, words: Words): string {
  const { charter, facts } = reaches;
  const kind = q.permission.kind ? charter.kind(q.permission.kind).one : 'page';
  const values = { act: inSentence(q.permission.label), kind, record: label, tenant: facts.tenant.name, keyholder: aKeyholder(charter) };
  const ask = facts.tenant.contact ? say(words, 'askContact', { contact: facts.tenant.contact }) : say(words, 'askKeyholder', values);
  if (hidden) return say(words, 'hidden', values);
  switch (found.outcome) {
    case 'expired':
      return say(words, 'expired');
    case 'limit':
      return say(words, 'limit', { ...values, sentence: charter.data.limits[q.permission.kind as string]?.[found.rule as string]?.sentence ?? '' });
    case 'only a look':
      return say(words, 'look', { ...values, name: facts.me.name ?? '' });
    case 'other channel':
      return found.rule === '' ? say(words, 'nowhere', values) : say(words, 'channel', { ...values, channels: found.rule as string });
    case 'obligation':
      return say(words, 'obligation', {
        sentence: charter.data.obligations[found.rule as string]?.sentence ?? facts.demands?.[found.rule as string] ?? '',
      });
    case 'plan':
      return `${say(words, 'plan', { ...values, feature: found.rule as string })} ${ask}`;
    case 'no grant':
      return `${say(words, 'noGrant', values)} ${ask}`;
    case 'out of reach': {
      // The rule as the charter says it ("keeper is me"), not as it was worked out for this person.
      const rules = new Set(looked.map((g) => ruleWords(charter, q.permission.kind as string, g, 'you')));
      return `${say(words, 'outOfReach', { ...values, reach: [...rules].join(say(words, 'or')) })} ${ask}`;
    }
    case 'guarded field': {
      const needed = inSentence(charter.permission(found.needs as string).label);
      const field = charter.kind(q.permission.kind as string).fields[found.rule as string]?.label ?? (found.rule as string);
      return `${say(words, 'field', { ...values, field, needed })} ${ask}`;
    }
    case 'not loaded':
      return say(words, 'notLoaded', values);
    default:
      return say(words, 'allowed', values);
  }
}

/** Asks one question of what a standing reaches. Without words (undefined) the answer carries none. */
export function decide(reaches: Reaches, q: Question, words: Words | undefined): Decision {
  const { permission, record } = q;
  const { charter } = reaches;
  const { kind, action } = permission;
  const read = kind && restsOnRead(action) ? [charter.permission(`${kind}.read`)] : [];
  const asked = [permission, ...read].map((p): Asked => ({ permission: p, looked: lookAt(reaches, kind, grantsWithReach(reaches, p), record) }));
  const looked = asked[0]?.looked ?? [];
  const found = findOutcome(reaches, q, asked);
  const visibility = visibilityOf(reaches, q, found);
  const name = kind && record ? record[charter.kind(kind).label] : undefined;
  const label = typeof name === 'string' && name !== '' ? name : words && kind ? say(words, 'thisRecord', { kind: charter.kind(kind).one }) : '';
  const idField = kind ? charter.shapes[kind]?.idField : undefined;
  return {
    allowed: found.outcome === 'allowed',
    outcome: found.outcome,
    action: permission.name,
    visibility,
    words: words ? wordsFor(reaches, q, found, visibility === 'hidden', looked, label, words) : '',
    ...(kind && record && idField && { record: { kind, id: record[idField], label } }),
    ...(found.rule !== undefined && { rule: found.rule }),
    ...(found.needs !== undefined && { needs: found.needs }),
    looked,
    lookedForRead: asked[1]?.looked ?? [],
  };
}
