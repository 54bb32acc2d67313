import { Accounts } from 'warm-lintel/accounts';
import type { ProbeRoute, ProbeTarget } from 'warm-lintel/rehearsal';
import { createLintel, type Database } from 'warm-lintel/server';
import { charter } from '../world/charter.js';
import { people } from '../world/seed.js';
import { createApp } from './app.js';

/** What the application does with records. What is done with people is the library's own face, which is tried by its own tests. */
const routes: readonly ProbeRoute[] = [
  { method: 'get', path: '/api/me' },
  { method: 'get', path: '/api/t/:tenant/standing' },
  { method: 'get', path: '/api/t/:tenant/hives', needs: 'area.hives' },
  { method: 'post', path: '/api/t/:tenant/hives', body: { name: 'Probe', colonies: 2, siteId: 'heath' } },
  { method: 'get', path: '/api/t/:tenant/hives/:id' },
  { method: 'patch', path: '/api/t/:tenant/hives/:id', body: { name: 'Probe', colonies: 2 } },
  { method: 'post', path: '/api/t/:tenant/hives/:id/keeper', kind: 'hive', body: { to: 'tobias' } },
  { method: 'post', path: '/api/t/:tenant/hives/:id/archive', kind: 'hive', body: { archived: true } },
  { method: 'delete', path: '/api/t/:tenant/hives/:id', kind: 'hive' },
  { method: 'post', path: '/api/t/:tenant/hives/:id/inspectors', kind: 'hive', body: { add: ['ingrid'] } },
  { method: 'post', path: '/api/t/:tenant/hives/:id/followers', kind: 'hive', body: { add: ['sela'], remove: ['otto'] } },
  { method: 'post', path: '/api/t/:tenant/hives/:id/inspections', kind: 'hive', body: { summary: 'Probe', heldAt: '2026-06-01' } },
  { method: 'get', path: '/api/t/:tenant/ledger', kind: 'entry', needs: 'area.ledger' },
  { method: 'post', path: '/api/t/:tenant/ledger', kind: 'entry', body: { purpose: 'Probe', amount: '1.50' } },
  { method: 'patch', path: '/api/t/:tenant/ledger/:id', kind: 'entry', params: { id: 'entry' }, body: { purpose: 'Probe', amount: '1.50' } },
  { method: 'post', path: '/api/t/:tenant/ledger/:id/book', kind: 'entry', params: { id: 'entry' }, body: {} },
  { method: 'get', path: '/api/t/:tenant/records/health', kind: 'report', needs: 'area.health' },
  { method: 'get', path: '/api/t/:tenant/records/sheets', kind: 'sheet', needs: 'area.sheets' },
  { method: 'get', path: '/api/t/:tenant/access', needs: 'area.members' },
];

const PASSWORD = 'only-for-the-probe';

/** The application on a database, for `lintel probe`. */
export async function probed(db: Database): Promise<ProbeTarget> {
  const lintel = createLintel({ charter, db });
  const accounts = new Accounts(lintel);
  for (const { id } of people) await accounts.setPassword(id, PASSWORD);
  const app = createApp({ lintel, accounts });
  return {
    app: (request) => app.fetch(request),
    signIn: async ({ address }, send) => {
      const answer = await send({ method: 'POST', path: '/lintel/account/sign-in', body: { address, password: PASSWORD } });
      return {
        cookie: answer.headers
          .getSetCookie()
          .map((one) => one.split(';')[0])
          .join('; '),
      };
    },
    routes,
  };
}
