import { isSayable, safeCell } from '../base/index.js';
import type { ServerStanding } from '../server/index.js';
import type { Assignment } from '../standing/index.js';

/** As it is called, where that says which one it is and stands well in a cell; else by its id. */
function calledBy(all: readonly { readonly id: string; readonly called: string }[]): (id: string) => string {
  const times = new Map<string, number>();
  for (const { id, called } of all) for (const name of new Set([id, called.toLowerCase()])) times.set(name, (times.get(name) ?? 0) + 1);
  const names = new Map(all.map(({ id, called }) => [id, times.get(called.toLowerCase()) === 1 && !/[;|@:]|^\s|\s$/.test(called) ? called : id]));
  return (id) => names.get(id) ?? id;
}

/**
 * The members of a tenant as a list that `readPeopleFile` takes: read and brought again, it changes nothing. Cells are safe in a spreadsheet. Attributes are there for whoever may change
 * roles.
 *
 * @throws LintelError `refused` for somebody who may not see the members.
 */
export async function writePeopleFile(standing: ServerStanding<any>): Promise<string> {
  const [members, roles, groups, units] = await Promise.all([
    standing.members.list(),
    standing.tenant.roles(),
    standing.tenant.groups(),
    standing.tenant.units(),
  ]);
  const role = calledBy(roles.map(({ id, label }) => ({ id, called: label })));
  const named = (all: readonly { readonly id: string; readonly name: string }[]) => calledBy(all.map(({ id, name }) => ({ id, called: name })));
  const [group, unit] = [named(groups), named(units)];
  const there = (all: typeof groups | typeof units, user: string) => all.filter(({ people }) => people.some(({ id }) => id === user)).map(({ id }) => id);
  const at = ({ anchor }: Assignment) => (anchor.on === 'tenant' ? '' : `@${anchor.on === 'unit' ? unit(anchor.unitId) : `${anchor.kind}:${anchor.id}`}`);
  const attributes = Object.entries(standing.charter.data.attributes ?? {}).filter(([, { setBy }]) => setBy.includes('people'));
  const cellOf = (value: unknown, several = false) => {
    const all = (Array.isArray(value) ? value : value === undefined ? [] : [value]).map((one) => (one instanceof Date ? one.toISOString() : String(one)));
    // What is left out says nothing, and so changes nothing.
    return all.every((one) => (several ? isSayable(one) : one === one.trim())) ? all.join(';') : '';
  };
  const isWritten = ({ anchor }: Assignment) => anchor.on !== 'record' || isSayable(anchor.id);
  const rows = members.map((member) => [
    member.address,
    member.name,
    member.roles
      .filter(isWritten)
      .map((held) => `${role(held.role)}${at(held)}`)
      .join('; '),
    there(groups, member.userId).map(group).join('; '),
    there(units, member.userId).map(unit).join('; '),
    member.endsAt?.toISOString() ?? '',
    ...attributes.map(([name, { several }]) => (member.attributes?.[name]?.by === 'people' ? cellOf(member.attributes[name]?.value, several) : '')),
  ]);
  const { stringify } = await import('csv-stringify/sync');
  return stringify([['address', 'name', 'roles', 'groups', 'units', 'until', ...attributes.map(([name]) => name)], ...rows.map((row) => row.map(safeCell))]);
}
