import { type Charter, KEYHOLDER } from '../charter/index.js';
import { fieldWords } from '../predicate/index.js';
import { anchorWords, type Could, type Decision, type Grant, type LookedAt, type Standing, type Way } from '../standing/index.js';

/** One grant in an explanation, in words. */
export interface ExplainedGrant {
  readonly holds: 'yes' | 'no' | 'not loaded';
  readonly reach: string;
  /** How it comes to the person: `role Keeper, for the whole organisation`. */
  readonly by: string;
  readonly where: string;
  readonly failed: readonly string[];
}

/** Why somebody may, or may not, do something: a decision with its trace, for those who may read it. */
export interface Explanation {
  readonly who: { readonly id: string; readonly name: string; readonly powers: string };
  readonly tenant: string;
  readonly action: { readonly name: string; readonly label: string };
  readonly record: { readonly kind: string; readonly id: string; readonly label: string } | null;
  /** `unknown` where it rests on what whoever asks may not know. */
  readonly allowed: Could['allowed'];
  readonly outcome: Decision['outcome'];
  readonly reason: string;
  readonly grants: readonly ExplainedGrant[];
  /** Grants of `read` on the same record, on which every other action rests. */
  readonly readGrants: readonly ExplainedGrant[];
  /** What the person is told. */
  readonly told: string;
  /** Members who could change it: full control, or the right to change roles. */
  readonly ask: readonly string[];
}

const wayWords = ({ through, sources }: Way) =>
  `${through ? `, through the ${through.on} ${through.name}` : ''}${sources ? `, brought by ${sources.join(' and ')}` : ''}`;

/** The way by which a grant comes to somebody, in words. */
export function pathWords(charter: Charter<any>, { path, anchor }: Pick<Grant, 'path' | 'anchor'>): string {
  const where = anchorWords(anchor);
  const place = where === undefined ? 'for the whole organisation' : `at ${where}`;
  switch (path.by) {
    case 'keyholder':
      return 'full control';
    case 'role': {
      const included = path.included.map((role) => `, which includes ${charter.role(role).label}`).join('');
      return `role ${charter.role(path.role).label}${included}, ${place}${wayWords(path)}`;
    }
    case 'direct':
      return `given directly, ${place}${wayWords(path)}`;
    case 'opening':
      return `an opening of what ${path.group} own${wayWords(path)}`;
    case 'deputy':
      return `standing in for ${path.name}`;
    case 'everyMember':
      return 'held by every member';
    case 'signedIn':
      return 'held by everybody who is signed in';
    case 'visitor':
      return 'held by visitors';
    case 'caretaker':
      return 'looking after the organisation';
  }
}

/** How far something reaches, and how it comes: `own, by role Keeper`, `followed, held by every member`. */
export const reachBy = (reach: string, by: string): string => `${reach}, ${/^(held|given|standing|looking) /.test(by) ? by : `by ${by}`}`;

/** What a line says of somebody, by an id. */
const ID = /“([^”]*)”|(?<=[ (])-?\d+(?=[),]|$)/g;

/** True of a line that says who somebody is: `keeper is not “bent”`. */
function saysWho({ data }: Charter<any>, line: string): boolean {
  const fields = Object.values(data.kinds).flatMap((kind) => Object.entries(kind.fields));
  return fields.some(([field, { role }]) => ['owner', 'maker', 'person'].includes(role) && new RegExp(`(^|’s )${fieldWords(field)} is `).test(line));
}

/** Ids of the people of whom it is said what failed of a decision. */
export function peopleIn(charter: Charter<any>, { looked, lookedForRead }: Could): string[] {
  const lines = [...looked, ...lookedForRead].flatMap(({ failed }) => failed).filter((line) => saysWho(charter, line));
  return [...new Set(lines.flatMap((line) => [...line.matchAll(ID)].map(([all, text]) => text ?? all)))];
}

function explainGrant(charter: Charter<any>, looked: LookedAt, names: Around['names'] = new Map()): ExplainedGrant {
  const named = (line: string) => line.replace(ID, (all, text: string | undefined) => names.get(text ?? all) ?? all);

  const holds = looked.holds === undefined ? 'not loaded' : looked.holds ? 'yes' : 'no';
  return {
    holds,
    reach: looked.reach,
    by: pathWords(charter, looked),
    where: looked.where,
    failed: looked.failed.map((line) => (saysWho(charter, line) ? named(line) : line)),
  };
}

/** A sentence to stand inside another. */
const withoutStop = (sentence = '') => sentence.replace(/\.$/, '');

function reasonOf(charter: Charter<any>, decision: Could): string {
  const kind = charter.permission(decision.action).kind ?? '';
  switch (decision.outcome) {
    case 'allowed':
      return 'a grant extends to it, and nothing refuses it';
    case 'missing':
      return 'there is no such record in this organisation';
    case 'unknown':
      return 'it rests on what whoever looks may not know';
    case 'only a look':
      return 'they look as somebody else, and that changes nothing and shows no more than they see themselves';
    case 'other channel':
      return `it is done by other ways in: ${decision.rule || 'by none'}`;
    case 'no standing':
      return 'they have no standing here: no member, suspended, or the organisation is closed';
    case 'other tenant':
      return 'the record belongs to another organisation, or to none';
    case 'expired':
      return 'the snapshot is out of date';
    case 'limit':
      return `the limit “${decision.rule}” holds: ${withoutStop(charter.data.limits[kind]?.[decision.rule ?? '']?.sentence)}`;
    case 'obligation':
      return `the obligation “${decision.rule}” is open: ${withoutStop(charter.data.obligations[decision.rule ?? '']?.sentence)}`;
    case 'plan':
      return `the plan lacks the feature “${decision.rule}”`;
    case 'no grant':
      return decision.looked.length === 0 ? 'no role of theirs gives it' : 'no role of theirs lets them read it';
    case 'out of reach':
      return decision.looked.some((g) => g.holds) ? 'it is given, but they may not read this record' : 'it is given, but not for this record';
    case 'guarded field':
      return `the field ${decision.rule} takes ${decision.needs}, which they lack here`;
    case 'not loaded':
      return 'the record was not loaded with what the decision rests on';
  }
}

/** Who is around somebody of whom a decision is explained. */
export interface Around {
  /** Who has full control. */
  readonly keyholders?: readonly { readonly id: string; readonly name: string }[];
  /** What people are called, by id; whoever is not among them is told by the id. */
  readonly names?: ReadonlyMap<string, string>;
}

/** What somebody with full control could change. */
const CHANGEABLE: readonly Decision['outcome'][] = ['no grant', 'out of reach', 'guarded field', 'no standing'];

/** Sets a decision into words. */
export function explain(
  standing: Standing<any>,
  decision: Could,
  record: { readonly kind: string; readonly id: string } | undefined,
  { keyholders = [], names }: Around = {},
): Explanation {
  const charter: Charter<any> = standing.charter;
  const label = charter.role(KEYHOLDER).label.toLowerCase();
  const others = keyholders.filter(({ id }) => id !== standing.userId).map(({ name }) => `${name} (${label})`);
  return {
    who: { id: standing.userId ?? '', name: standing.facts.me.name ?? standing.userId ?? 'a visitor', powers: standing.describe().line },
    tenant: standing.facts.tenant.name,
    action: { name: decision.action, label: charter.permission(decision.action).label },
    record: record ? { ...record, label: decision.record?.label ?? '' } : null,
    allowed: decision.allowed,
    outcome: decision.outcome,
    reason: reasonOf(charter, decision),
    grants: decision.looked.map((g) => explainGrant(charter, g, names)),
    readGrants: decision.lookedForRead.map((g) => explainGrant(charter, g, names)),
    told: decision.words,
    ask: CHANGEABLE.includes(decision.outcome) ? others : [],
  };
}
