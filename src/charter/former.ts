import type { Charter, Permission } from './charter.js';
import type { RoleData } from './data.js';

/** By what roles and permissions were called before, what they are called now; worked out once for a charter and its views. */
const former = new WeakMap<ReadonlyMap<string, Permission>, ReadonlyMap<string, string>>();

/** What a role or a permission that was stored some time ago is called now. */
export function nameNow({ data, permissions }: Charter<any>, name: string): string {
  let known = former.get(permissions);
  if (!known) {
    const named = [...Object.entries(data.roles), ...permissions] as [string, { readonly was?: readonly string[] }][];
    known = new Map(named.flatMap(([now, { was = [] }]) => was.map((before) => [before, now] as const)));
    former.set(permissions, known);
  }
  return known.get(name) ?? name;
}

/** A role of a tenant's own that was stored some time ago, in the names of now. */
export function roleNow(charter: Charter<any>, role: RoleData): RoleData {
  const may: Record<string, readonly string[]> = {};
  for (const [stored, reaches] of Object.entries(role.may)) {
    const permission = nameNow(charter, stored);
    may[permission] = [...new Set([...(may[permission] ?? []), ...reaches])];
  }
  const now = (names: readonly string[]) => names.map((name) => nameNow(charter, name));
  return { ...role, may, includes: now(role.includes), gives: now(role.gives) };
}
