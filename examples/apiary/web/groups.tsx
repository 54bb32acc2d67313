import { Button, Group, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { GroupView, RoleView, Step } from 'warm-lintel/server';
import { ActionButton } from './action.js';
import { type Listed, useLoad } from './api.js';
import { useChange } from './change.js';
import type { MemberRow, RoleToGive } from './members.js';
import { Dialog, PeopleChoice, PeopleTabs, placeWords, RoleChoice } from './parts.js';
import { Trouble } from './trouble.js';

/** Groups, who is in them, and what their people hold by them. */
export function GroupsPage({ tenant }: { tenant: string }): ReactNode {
  const at = `/lintel/tenants/${tenant}`;
  const groups = useLoad<Listed<GroupView>>(`${at}/groups`);
  const roles = useLoad<Listed<RoleView>>(`${at}/roles`);
  const members = useLoad<Listed<MemberRow>>(`${at}/members?limit=200`);
  const toGive = useLoad<Listed<RoleToGive>>(`${at}/roles-to-give`);
  const [editing, setEditing] = useState<GroupView | 'new'>();
  const change = useChange(tenant, () => {
    groups.reload();
    roles.reload();
  });
  if (groups.error) return <Trouble error={groups.error} />;
  if (!groups.data || !roles.data || !members.data || !toGive.data) return null;
  const held = (id: string) =>
    (roles.data?.items ?? []).flatMap((role) =>
      role.holders.filter((h) => h.on === 'group' && h.id === id && !h.by).map((h) => ({ role: role.id, label: role.label, anchor: h.anchor })),
    );
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Group justify="space-between" align="flex-start">
        <Title order={1}>Groups</Title>
        <ActionButton action="group.arrange" onClick={() => setEditing('new')}>
          Make a group
        </ActionButton>
      </Group>
      {change.trouble}
      {groups.data.items.length === 0 && (
        <Text mt="md" className="quiet">
          There is no group yet. What a group holds, each of its people holds while they are in it.
        </Text>
      )}
      {groups.data.items.map((group) => (
        <section key={group.id} className="sheet" style={{ marginTop: '1rem' }} aria-label={group.name}>
          <Group justify="space-between">
            <Title order={2} size="h4">
              {group.name}
            </Title>
            <Group gap="xs">
              <Button size="compact-sm" variant="light" onClick={() => setEditing(group)} aria-label={`Change ${group.name}`}>
                Change
              </Button>
              <Button
                size="compact-sm"
                variant="default"
                onClick={() => change.ask(`Drop ${group.name}`, [{ do: 'drop-group', id: group.id }])}
                aria-label={`Drop ${group.name}`}
              >
                Drop
              </Button>
            </Group>
          </Group>
          <Text size="sm">{group.people.map(({ name }) => name).join(', ') || 'nobody'}</Text>
          <Text size="sm" className="quiet">
            {held(group.id)
              .map(({ label, anchor }) => `${label}${placeWords(anchor)}`)
              .join(', ') || 'gives no role'}
          </Text>
        </section>
      ))}
      <Dialog opened={editing !== undefined} onClose={() => setEditing(undefined)} title={editing === 'new' ? 'Make a group' : 'Change a group'}>
        {editing && (
          <GroupForm
            group={editing === 'new' ? undefined : editing}
            roles={
              editing === 'new'
                ? []
                : held(editing.id)
                    .filter(({ anchor }) => anchor.on === 'tenant')
                    .map(({ role }) => role)
            }
            kept={editing === 'new' ? [] : held(editing.id).filter(({ anchor }) => anchor.on !== 'tenant')}
            members={members.data.items}
            toGive={toGive.data.items}
            propose={(title, steps) => {
              setEditing(undefined);
              change.ask(title, steps);
            }}
          />
        )}
      </Dialog>
      {change.dialog}
    </>
  );
}

function GroupForm(props: {
  group: GroupView | undefined;
  roles: string[];
  kept: { role: string; anchor: RoleView['holders'][number]['anchor'] }[];
  members: readonly MemberRow[];
  toGive: readonly RoleToGive[];
  propose: (title: string, steps: Step[]) => void;
}): ReactNode {
  const { group, members, toGive, kept } = props;
  const [name, setName] = useState(group?.name ?? '');
  const [people, setPeople] = useState(group?.people.map(({ id }) => id) ?? []);
  const [roles, setRoles] = useState(props.roles);
  const propose = () => {
    const id = group?.id ?? crypto.randomUUID();
    const held = [...roles.map((role) => ({ role, anchor: { on: 'tenant' } as const })), ...kept.map(({ role, anchor }) => ({ role, anchor }))];
    props.propose(name, [
      ...(group ? [{ do: 'set-group', id, people } as const] : [{ do: 'make-group', id, name, people } as const]),
      ...(group && group.name !== name ? [{ do: 'rename-group', id, name } as const] : []),
      ...(JSON.stringify(roles) === JSON.stringify(props.roles) ? [] : [{ do: 'set-roles', holder: { group: id }, roles: held } as const]),
    ]);
  };
  return (
    <Stack>
      <TextInput label="Name of the group" value={name} onChange={(event) => setName(event.currentTarget.value)} data-autofocus />
      <PeopleChoice label="People" value={people} onChange={setPeople} members={members} />
      <RoleChoice label="Roles that its people hold by it" value={roles} onChange={setRoles} toGive={toGive.filter(({ role }) => role !== 'keyholder')} />
      <Button disabled={name.trim() === ''} onClick={propose}>
        See what it does
      </Button>
    </Stack>
  );
}
