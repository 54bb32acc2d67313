import { Group } from '@mantine/core';
import type { ReactNode } from 'react';
import { charter } from '../world/charter.js';
import { RowButton } from './action.js';
import type { Role } from './api.js';
import { placeWords, reachWords } from './parts.js';

const permissions = [...charter.permissions.values()];

/** Everything that a role gives, with what it has from those that it includes. */
export function givenBy(roles: readonly Role[], role: Role, seen = new Set<string>()): Record<string, readonly string[]> {
  if (seen.has(role.id)) return {};
  seen.add(role.id);
  const all: Record<string, readonly string[]> = {};
  for (const inner of role.includes) {
    const found = roles.find(({ id }) => id === inner);
    if (found) Object.assign(all, givenBy(roles, found, seen));
  }
  for (const [name, reaches] of Object.entries(role.may)) all[name] = [...new Set([...(all[name] ?? []), ...reaches])];
  return all;
}

export const holdersOf = ({ holders }: Role) =>
  holders.map(({ on, name, people, anchor }) => `${on === 'user' ? name : `${name} (${people})`}${placeWords(anchor)}`).join(', ') || 'nobody';

/** Roles side by side: what each gives, and who holds it. */
export function RolesTable(props: {
  roles: readonly Role[];
  given: ReadonlyMap<string, Record<string, readonly string[]>>;
  edit: (role: Role) => void;
  copy: (role: Role) => void;
  drop: (role: Role) => void;
}): ReactNode {
  const { roles, given, edit, copy, drop } = props;
  const shown = permissions.filter(({ name }) => roles.some(({ id }) => given.get(id)?.[name]));
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard
    <section className="scroll sheet" tabIndex={0} aria-label="Roles side by side" style={{ marginTop: '1rem' }}>
      <table className="access">
        <thead>
          <tr>
            <th scope="col">May</th>
            {roles.map((role) => (
              <th scope="col" key={role.id} id={role.id}>
                {role.label}
                <small>{holdersOf(role)}</small>
                <RoleButtons role={role} onEdit={() => edit(role)} onCopy={() => copy(role)} onDrop={() => drop(role)} />
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.map(({ name, label }) => (
            <tr key={name}>
              <th scope="row">
                {label}
                <small>{name}</small>
              </th>
              {roles.map((role) => {
                const reaches = given.get(role.id)?.[name];
                const words = reachWords(reaches);
                return (
                  <td key={role.id} className={reaches ? (words === 'all' ? 'all' : 'some') : 'none'}>
                    {words || '·'}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function RoleButtons({ role, onEdit, onCopy, onDrop }: { role: Role; onEdit: () => void; onCopy: () => void; onDrop: () => void }): ReactNode {
  return (
    <Group gap={4} mt={4}>
      {role.own && (
        <RowButton action="role.arrange" onClick={onEdit} label={`Change ${role.label}`}>
          Change
        </RowButton>
      )}
      <RowButton action="role.arrange" variant="default" onClick={onCopy} label={`Copy ${role.label}`}>
        Copy
      </RowButton>
      {role.own && (
        <RowButton action="role.arrange" variant="default" onClick={onDrop} label={`Drop ${role.label}`}>
          Drop
        </RowButton>
      )}
    </Group>
  );
}
