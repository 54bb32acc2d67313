import { Group, Text, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { RoleView } from 'warm-lintel/server';
import { charter } from '../world/charter.js';
import { ActionButton, RowButton } from './action.js';
import { type Listed, useLoad } from './api.js';
import { useChange } from './change.js';
import { NotOpen } from './not-open.js';
import { Dialog, PeopleTabs, placeWords, reachWords, useMarked } from './parts.js';
import { RoleForm } from './role-form.js';

const permissions = [...charter.permissions.values()];

/** Everything that a role gives, with what it has from those that it includes. */
function givenBy(roles: readonly RoleView[], role: RoleView, seen = new Set<string>()): Record<string, readonly string[]> {
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

const holdersOf = ({ holders }: RoleView) =>
  holders.map(({ on, name, people, anchor }) => `${on === 'user' ? name : `${name} (${people})`}${placeWords(anchor)}`).join(', ') || 'nobody';

/** Roles side by side, who holds each, and those of the association's own to be made and changed. */
export function RolesPage({ tenant }: { tenant: string }): ReactNode {
  const { data, error, reload } = useLoad<Listed<RoleView>>(`/lintel/tenants/${tenant}/roles`);
  const [editing, setEditing] = useState<{ id?: string; from: RoleView }>();
  const change = useChange(tenant, reload);
  useMarked(data !== undefined);
  if (error) return <NotOpen tenant={tenant} title="Roles" error={error} />;
  if (!data) return null;
  const roles = data.items;
  const [keyholder, ...others] = roles as [RoleView, ...RoleView[]];
  const given = new Map(others.map((role) => [role.id, givenBy(roles, role)]));
  const shown = permissions.filter(({ name }) => others.some(({ id }) => given.get(id)?.[name]));
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <div className="head">
        <Title order={1}>Roles</Title>
        <ActionButton action="role.arrange" onClick={() => setEditing({ from: { ...keyholder, id: '', label: '', sentence: '', may: {}, includes: [] } })}>
          Make a role
        </ActionButton>
      </div>
      <Text className="quiet">
        {keyholder.label}: {holdersOf(keyholder)}. {keyholder.sentence}
      </Text>
      {change.trouble}
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard */}
      <section className="scroll sheet" tabIndex={0} aria-label="Roles side by side" style={{ marginTop: '1rem' }}>
        <table className="access">
          <thead>
            <tr>
              <th scope="col">May</th>
              {others.map((role) => (
                <th scope="col" key={role.id} id={role.id}>
                  {role.label}
                  <small>{holdersOf(role)}</small>
                  <RoleButtons
                    role={role}
                    onEdit={() => setEditing({ id: role.id, from: role })}
                    onCopy={() => setEditing({ from: { ...role, label: `${role.label}, changed`, may: { ...given.get(role.id) }, includes: [] } })}
                    onDrop={() => change.ask(`Drop the role ${role.label}`, [{ do: 'drop-role', id: role.id, instead: null }])}
                  />
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
                {others.map((role) => {
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
      <Dialog
        opened={editing !== undefined}
        onClose={() => setEditing(undefined)}
        title={editing?.id ? `Change ${editing.from.label}` : 'Make a role'}
        size="lg"
      >
        {editing && (
          <RoleForm
            from={editing.from}
            id={editing.id}
            others={others.map((role) => ({ id: role.id, label: role.label, startsAt: role.startsAt, may: given.get(role.id) ?? {} }))}
            propose={(title, step) => {
              setEditing(undefined);
              change.ask(title, [step]);
            }}
          />
        )}
      </Dialog>
      {change.dialog}
    </>
  );
}

function RoleButtons({ role, onEdit, onCopy, onDrop }: { role: RoleView; onEdit: () => void; onCopy: () => void; onDrop: () => void }): ReactNode {
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
