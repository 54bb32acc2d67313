import { Hono } from 'hono';
import { type Anchor, LintelError, Standing } from 'warm-lintel';
import type { FaceOptions, Standing as OfRequest } from 'warm-lintel/http';
import { accessTable, madeUpFacts, peopleSubjects, roleSubjects, type Subject } from 'warm-lintel/rehearsal';
import { type Apiary, body, str, texts } from './app.js';
import { around, type Here } from './here.js';
import { hiveRoutes } from './hives.js';
import { ledgerRoutes } from './ledger.js';

/** How long a snapshot counts in a browser, in seconds. */
const SNAPSHOT = 15 * 60;

/** Roles as a form sends them: for the whole tenant, or for a unit. */
function readRoles(value: unknown): { role: string; anchor: Anchor }[] {
  if (!Array.isArray(value)) throw new LintelError('bad-request', 'roles must be a list.', {});
  return value.map((item: { role?: unknown; unitId?: unknown }) => ({
    role: str(item?.role),
    anchor: item?.unitId ? { on: 'unit', unitId: str(item.unitId) } : { on: 'tenant' },
  }));
}

/** Everything about records inside one tenant; what is done with people is asked of the library's own face. The tenant is in the address, so a form changes the tenant it was opened in, or nothing. */
export function tenantRoutes(lintel: Apiary, sender: FaceOptions['sender']): Hono<OfRequest> {
  const app = new Hono<OfRequest>();
  const { enter } = around(lintel, sender);
  app.route('/hives', hiveRoutes(lintel, sender));
  app.route('/ledger', ledgerRoutes(lintel, sender));

  /** Whole counts are for whoever may ask about everybody's access. */
  const counting = (standing: Here) => ({
    tenant: standing.facts.tenant,
    ...(standing.grantsFor('access.ask').some(({ reach }) => reach === 'tenant') && { db: lintel.db }),
  });

  app.get('/standing', async (c) => {
    const standing = await enter(c);
    return c.json({ snapshot: standing.snapshot(SNAPSHOT), line: standing.describe().line, startsAt: standing.startsAt() ?? null });
  });

  app.get('/records/:area', async (c) => {
    const standing = await enter(c);
    const area = c.req.param('area');
    if (area === 'health') {
      standing.insist('area.health');
      return c.json({ title: 'Disease reports', columns: ['disease', 'findings'], rows: await standing.find('report', { order: 'id', limit: 200 }) });
    }
    standing.insist('area.sheets');
    return c.json({ title: 'Reference sheets', columns: ['title', 'body'], rows: await standing.find('sheet', { order: 'title' }) });
  });

  app.post('/invitations/preview', async (c) => {
    const standing = await enter(c);
    standing.insist('member.invite');
    const input = await body(c);
    const [unitIds, groupIds] = [texts(input.units), texts(input.groups)];
    const below = Object.fromEntries(
      (await lintel.db.selectFrom('lintel_unit_below').selectAll().where('tenant_id', '=', standing.facts.tenant.id).execute()).reduce(
        (all, row) => all.set(row.above_id, [...(all.get(row.above_id) ?? []), row.below_id]),
        new Map<string, string[]>(),
      ),
    );
    // What comes by the groups, and by the sites with those above them, comes to them too.
    const placed = [...unitIds, ...Object.keys(below).filter((above) => unitIds.some((unit) => below[above]?.includes(unit)))];
    const by = groupIds.length + unitIds.length === 0 ? [] : await standing.tenant.roles();
    const through = by.flatMap(({ id, holders }) =>
      holders
        .filter(({ on, id: holder, by: other }) => !other && (on === 'group' ? groupIds : on === 'unit' ? placed : []).includes(holder))
        .map(({ anchor }) => ({ role: id, anchor })),
    );
    const facts = madeUpFacts(standing.charter, standing.facts.tenant, [...readRoles(input.roles), ...through], below);
    const newcomer = new Standing(standing.charter, { ...facts, me: { ...facts.me, unitIds, groupIds } });
    const subject: Subject = { id: 'newcomer', name: 'newcomer', line: '', standings: [newcomer], shown: newcomer };
    const table = await accessTable(standing.charter, 'people', [subject], counting(standing));
    const opens = table.sections
      .flatMap((s) => s.permissions.map((p, i) => ({ section: s.name, label: p.label, total: s.total, ...(s.rows[0]?.cells[i] ?? { ways: [], count: null }) })))
      .filter((line) => line.ways.length > 0);
    const gives = newcomer.describe().permissions.some((p) => p.ways.some((way) => way.path.by !== 'everyMember'));
    return c.json({ opens, empty: !gives });
  });
  app.get('/access', async (c) => {
    const standing = await enter(c);
    standing.insist('area.members');
    const members = await standing.members.list();
    const fulfilled = Object.keys(lintel.charter.data.obligations);
    const standings = await Promise.all(members.map((m) => lintel.enter({ tenant: standing.facts.tenant.id, user: m.userId, fulfilled })));
    standings.sort((a, b) => (a.facts.me.name ?? '').localeCompare(b.facts.me.name ?? ''));
    const by = c.req.query('by') === 'people' ? 'people' : 'roles';
    const subjects = by === 'people' ? peopleSubjects(standings) : roleSubjects(lintel.charter, standing.facts.tenant, standings);
    return c.json(await accessTable(lintel.charter, by, subjects, counting(standing)));
  });
  return app;
}
