import { LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import {
  accessChanges,
  compare,
  giversOf,
  type ProbeReport,
  pathWords,
  readScript,
  rehearse,
  reviewCharter,
  strayLines,
  whose,
} from '../../rehearsal/index.js';
import type { Lintel, Remedies, Remedy } from '../../server/index.js';
import { judged, placeOf } from '../accepting.js';
import { peopleOf } from '../changes.js';
import { sideOf } from '../compare.js';
import { insistOnOwn, isCopy } from '../copy.js';
import { explainIn, findPerson, findRecord, findTenant, remediesIn, rolesIn, standingsOf, tableOf, whoMay } from '../look.js';
import { stageOf } from '../rehearse.js';
import { CODES, foundInTenant } from '../review.js';

/** What stands on the desk. */
export interface DeskParts {
  readonly lintel: Lintel;
  /** The charter as it was, to be compared with. */
  readonly before?: Charter<any>;
  /** Expectations, with the name of their file. */
  readonly script?: { readonly file: string; readonly text: string };
  readonly probe?: () => Promise<ProbeReport>;
  /** Findings that are meant so, as the configuration has them. */
  readonly accepted?: Readonly<Record<string, string>>;
}

type Query = Readonly<Record<string, string>>;

function need(query: Query, name: string): string {
  const value = query[name];
  if (value) return value;
  throw new LintelError('bad-request', `Say which ${name}.`, {});
}

/** What the page asks, by the last part of its address. Everything here only looks. */
export const ANSWERS: Readonly<Record<string, (parts: DeskParts, query: Query) => Promise<unknown>>> = {
  about: async ({ lintel, before, script, probe }) => {
    const { charter } = lintel;
    const tenants = await lintel.db.selectFrom('lintel_tenant').select(['id', 'name']).orderBy('name').execute();
    const permissions = [...charter.permissions.values()].map(({ name, label, section, kind }) => ({ name, label, section, kind: kind ?? null }));
    const kinds = Object.entries(charter.data.kinds).map(([name, { one, many }]) => ({ name, one, many }));
    const roles = Object.entries(charter.data.roles).map(([id, { label }]) => ({ id, label }));
    return {
      tenants,
      permissions,
      kinds,
      roles,
      has: { changes: before !== undefined, rehearsal: script !== undefined, probe: probe !== undefined, membership: !isCopy(lintel) },
    };
  },
  people: async ({ lintel }, query) => (await findTenant(lintel, need(query, 'tenant'))).members,
  table: async ({ lintel }, query) => {
    const tenant = await findTenant(lintel, need(query, 'tenant'));
    const by = query.by === 'people' ? 'people' : 'roles';
    // A person’s cell leads to why, and nobody stands behind a row for all.
    const table = await tableOf(tenant, by, { only: query.only ? [query.only] : [], most: query.most || undefined, open: by === 'roles' });
    return { ...table, sections: table.sections.map((section) => ({ ...section, told: strayLines(section) })) };
  },
  records: async ({ lintel }, query) => {
    const kind = need(query, 'kind');
    const { label } = lintel.charter.kind(kind);
    const { idField } = lintel.charter.shapes[kind] as { idField: string };
    const all = await (await (await findTenant(lintel, need(query, 'tenant'))).onlooker()).find(kind, { order: label, limit: 500 });
    return (all as Record<string, unknown>[]).map((one) => ({ id: String(one[idField]), label: String(one[label] ?? one[idField]) }));
  },
  why: async ({ lintel }, query) => {
    const action = need(query, 'action');
    const { kind } = lintel.charter.permission(action);
    const tenant = await findTenant(lintel, need(query, 'tenant'));
    const standing = await tenant.standingOf(await findPerson(tenant, need(query, 'person')));
    const id = kind === undefined || !query.record ? undefined : await findRecord(tenant, kind, query.record);
    const decision = id === undefined ? standing.decide(action) : await standing.decideById(action, id);
    const record = kind !== undefined && id !== undefined ? { kind, id } : undefined;
    const may = record && decision.outcome !== 'missing' ? await whoMay(tenant, action, record.id, 200) : null;
    const who = may?.map(({ userId, name, ways }) => ({ userId, name, by: ways.map((way) => pathWords(lintel.charter, way)) })) ?? null;
    return { explanation: await explainIn(tenant, standing, decision, record), who };
  },
  gives: async ({ lintel }, query) => {
    const tenant = await findTenant(lintel, need(query, 'tenant'));
    return giversOf(lintel.charter, need(query, 'action'), await rolesIn(tenant), await standingsOf(tenant));
  },
  remedies: async ({ lintel }, query) => {
    const tenant = await findTenant(lintel, need(query, 'tenant'));
    const user = await findPerson(tenant, need(query, 'person'));
    return remediesIn(tenant, { as: query.as || undefined, user, action: need(query, 'action'), id: need(query, 'record') });
  },
  appeals: async ({ lintel }, query) => {
    const tenant = await findTenant(lintel, need(query, 'tenant'));
    return (await tenant.standingOf(await findPerson(tenant, need(query, 'as')))).appeals.list();
  },
  compare: async ({ lintel }, query) => {
    const tenant = await findTenant(lintel, need(query, 'tenant'));
    const sides = [];
    for (const name of need(query, 'people').split(',')) sides.push(await sideOf(tenant, name));
    if (sides.length < 2) throw new LintelError('which-people', 'Choose two people or more.', {});
    const compared = await compare(sides, query.action ? { db: await lintel.recordsOf(tenant.id), action: query.action, some: 20 } : undefined);
    const { names, records } = compared;
    return { ...compared, ...(records && { records: { ...records, groups: records.groups.map((one) => ({ ...one, by: whose(names, one) })) } }) };
  },
  review: async ({ lintel, accepted }, query) => {
    const found = [...reviewCharter(lintel.charter), ...(await foundInTenant(lintel, need(query, 'tenant')))];
    return judged(found, accepted, ({ place }) => place).map((one) => ({ ...one, ...CODES[one.code] }));
  },
  changes: async ({ lintel, before }, query) => {
    if (!before) throw new LintelError('bad-request', 'Start the desk with --before CHARTER to see what changed since.', {});
    const { tenant, all } = await peopleOf(lintel, before, need(query, 'tenant'));
    return accessChanges(lintel.charter, all, { db: await lintel.recordsOf(tenant), tenant });
  },
  rehearsal: async ({ lintel, script }, query) => {
    if (!script) throw new LintelError('bad-request', 'Start the desk with --rehearse FILE to see what holds.', {});
    const tenant = await findTenant(lintel, need(query, 'tenant'));
    return { file: script.file, outcomes: await rehearse(readScript(script.text, lintel.charter), await stageOf(tenant)) };
  },
};

/** By its words, not by its place: what stands where may be another by now. */
function chosenFrom({ remedies }: Remedies, words: string): Remedy {
  const chosen = remedies.find((one) => one.words === words);
  if (chosen && chosen.refused === undefined) return chosen;
  throw new LintelError('no-such-remedy', chosen?.refused ?? 'That would not do it any more. Look again.', {});
}

/** What changes something, or takes long: it is sent, not looked up. */
export const WORKS: Readonly<Record<string, (parts: DeskParts, query: Query) => Promise<unknown>>> = {
  'carry-out': async ({ lintel }, query) => {
    insistOnOwn(lintel);
    const tenant = await findTenant(lintel, need(query, 'tenant'));
    const asking = await tenant.standingOf(await findPerson(tenant, need(query, 'as')));
    const [user, action, record] = [await findPerson(tenant, need(query, 'person')), need(query, 'action'), need(query, 'record')];
    const { proposal, words } = chosenFrom(await asking.remedies(user, action, record), need(query, 'words'));
    if (!proposal) throw new LintelError('no-such-remedy', 'That one changes the record, in the application.', {});
    await asking.carryOut(proposal, words);
    return { allowed: (await (await tenant.standingOf(user)).decideById(action, record)).allowed };
  },
  'answer-appeal': async ({ lintel }, query) => {
    insistOnOwn(lintel);
    const tenant = await findTenant(lintel, need(query, 'tenant'));
    const { appeals } = await tenant.standingOf(await findPerson(tenant, need(query, 'as')));
    const id = need(query, 'appeal');
    if (!query.words) return appeals.decline(id, query.reason || undefined).then(() => ({ answer: 'declined' }));
    await appeals.agree(id, chosenFrom(await appeals.remedies(id), query.words), query.reason || undefined);
    return { answer: 'agreed' };
  },
  probe: async ({ probe, accepted }) => {
    if (!probe) throw new LintelError('no-probe', 'There is no application to try: give defineConfig a probe.', {});
    const report = await probe();
    return { ...report, findings: judged(report.findings, accepted, placeOf) };
  },
};
