import { Text, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useRoles } from 'warm-lintel/react';
import { ActionButton } from './action.js';
import type { Role } from './api.js';
import { Changing } from './change.js';
import { NotOpen } from './not-open.js';
import { Dialog, PeopleTabs, useMarked } from './parts.js';
import { RoleForm } from './role-form.js';
import { givenBy, holdersOf, RolesTable } from './roles-table.js';

/** Roles side by side, who holds each, and those of the association's own to be made and changed. */
export function RolesPage({ tenant }: { tenant: string }): ReactNode {
  const { items: roles, error, change, drop } = useRoles();
  const [editing, setEditing] = useState<{ id?: string; from: Role }>();
  useMarked(roles !== undefined);
  if (error) return <NotOpen tenant={tenant} title="Roles" error={error} />;
  if (!roles) return null;
  const [keyholder, ...others] = roles as [Role, ...Role[]];
  const given = new Map(others.map((role) => [role.id, givenBy(roles, role)]));
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
      <Changing change={change} />
      <RolesTable
        roles={others}
        given={given}
        edit={(role) => setEditing({ id: role.id, from: role })}
        copy={(role) => setEditing({ from: { ...role, label: `${role.label}, changed`, may: { ...given.get(role.id) }, includes: [] } })}
        drop={(role) => void drop(role.id, `Drop the role ${role.label}`)}
      />
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
              change.show([step], title);
            }}
          />
        )}
      </Dialog>
    </>
  );
}
