import type { Context } from 'hono';
import { type FaceOptions, type Standing as OfRequest, standingOfRequest } from 'warm-lintel/http';
import type { Apiary } from './app.js';

export type Here = Awaited<ReturnType<Apiary['enter']>>;
interface Named {
  id: string;
  name: string;
}

/** What the routes of one association ask again and again. */
export interface Around {
  /** Whoever sent the request, in the association that its address names. */
  enter(c: Context<OfRequest>): Promise<Here>;
  units(standing: Here): Promise<(Named & { parentId: string | null })[]>;
  /** Active members of whom this person may know; themselves at least. */
  names(standing: Here): Promise<Named[]>;
}

export function around(lintel: Apiary, sender: FaceOptions['sender']): Around {
  return {
    async enter(c) {
      if (c.get('standing')) return c.get('standing') as unknown as Here;
      return standingOfRequest(lintel, sender, c.req.raw, c.req.param('tenant') ?? '');
    },
    units: (standing) =>
      lintel.db
        .selectFrom('lintel_unit')
        .select(['id', 'name', 'parent_id as parentId'])
        .where('tenant_id', '=', standing.facts.tenant.id)
        .orderBy('name')
        .execute(),
    async names(standing) {
      const mine = { userId: standing.userId ?? '', name: standing.facts.me.name ?? '', status: 'active' };
      const known = standing.may('member.read') ? await standing.members.list() : [mine];
      return known.filter(({ status }) => status === 'active').map(({ userId, name }) => ({ id: userId, name }));
    },
  };
}
