import { Button, Group, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { Assignment } from 'warm-lintel';
import { IfAllowed, useChange, useGroups, useMembers, useRoles } from 'warm-lintel/react';
import type { Step } from 'warm-lintel/server';
import { ActionButton, RowButton } from './action.js';
import { Alone } from './alone.js';
import type { Group as GroupRow, Member } from './api.js';
import { Changing } from './change.js';
import { inForm, outOfForm, rolesOf } from './holding.js';
import { NotOpen } from './not-open.js';
import { Dialog, Folded, PeopleTabs, placeWords, RoleChoice, Several, useMarked } from './parts.js';

/** Groups, who is in them, and what their people hold by them. */
export function GroupsPage({ tenant }: { tenant: string }): ReactNode {
  const groups = useGroups();
  const roles = useRoles();
  const members = useMembers();
  const [editing, setEditing] = useState<GroupRow | 'new'>();
  const change = useChange();
  useMarked(Boolean(groups.items && roles.items && members.items));
  if (groups.error) return <NotOpen tenant={tenant} title="Groups" error={groups.error} />;
  if (!groups.items || !roles.items || !members.items) return null;
  const all = roles.items;
  const held = (id: string) => rolesOf(all, { group: id });
  const label = (role: string) => all.find(({ id }) => id === role)?.label ?? role;
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <div className="head">
        <Title order={1}>Groups</Title>
        <ActionButton action="group.arrange" onClick={() => setEditing('new')}>
          Make a group
        </ActionButton>
      </div>
      <Changing change={change} />
      {groups.items.length === 0 && <p className="empty">There is no group yet. What a group holds, each of its people holds while they are in it.</p>}
      {groups.items.map((group) => (
        <section key={group.id} id={group.id} className="sheet" style={{ marginTop: '1rem' }} aria-label={group.name}>
          <Group justify="space-between">
            <Title order={2} size="h4">
              {group.name}
            </Title>
            <Group gap="xs">
              <RowButton action="group.arrange" onClick={() => setEditing(group)} label={`Change ${group.name}`}>
                Change
              </RowButton>
              <RowButton
                action="group.arrange"
                variant="default"
                onClick={() => change.show([{ do: 'drop-group', id: group.id }], `Drop ${group.name}`)}
                label={`Drop ${group.name}`}
              >
                Drop
              </RowButton>
            </Group>
          </Group>
          <Text size="sm">{group.people.map(({ name }) => name).join(', ') || 'nobody'}</Text>
          <Text size="sm" className="quiet">
            {held(group.id)
              .map(({ role, anchor, until }) => `${label(role)}${placeWords(anchor)}${until ? ` until ${until.slice(0, 10)}` : ''}`)
              .join(', ') || 'gives no role'}
          </Text>
          <IfAllowed action="member.assign">
            <Folded summary="Single permissions">
              <Alone on="group" id={group.id} name={group.name} />
            </Folded>
          </IfAllowed>
        </section>
      ))}
      <Dialog opened={editing !== undefined} onClose={() => setEditing(undefined)} title={editing === 'new' ? 'Make a group' : 'Change a group'}>
        {editing && (
          <GroupForm
            group={editing === 'new' ? undefined : editing}
            held={editing === 'new' ? [] : held(editing.id)}
            members={members.items}
            propose={(title, steps) => {
              setEditing(undefined);
              change.show(steps, title);
            }}
          />
        )}
      </Dialog>
    </>
  );
}

function GroupForm(props: {
  group: GroupRow | undefined;
  held: readonly Assignment[];
  members: readonly Member[];
  propose: (title: string, steps: Step[]) => void;
}): ReactNode {
  const { group, members } = props;
  const { wide, kept } = inForm(props.held);
  const [name, setName] = useState(group?.name ?? '');
  const [people, setPeople] = useState(group?.people.map(({ id }) => id) ?? []);
  const [roles, setRoles] = useState(wide);
  const propose = () => {
    const id = group?.id ?? crypto.randomUUID();
    props.propose(name, [
      ...(group ? [{ do: 'set-group', id, people } as const] : [{ do: 'make-group', id, name, people } as const]),
      ...(group && group.name !== name ? [{ do: 'rename-group', id, name } as const] : []),
      ...(JSON.stringify(roles) === JSON.stringify(wide) ? [] : [{ do: 'set-roles', holder: { group: id }, roles: outOfForm(roles, kept) } as const]),
    ]);
  };
  return (
    <Stack>
      <TextInput label="Name of the group" value={name} onChange={(event) => setName(event.currentTarget.value)} data-autofocus />
      <Several label="People" value={people} onChange={setPeople} of={members.map(({ userId, name: called }) => ({ id: userId, name: called }))} />
      <RoleChoice label="Roles that its people hold by it" value={roles} onChange={setRoles} people />
      <Button disabled={name.trim() === ''} onClick={propose}>
        See what it does
      </Button>
    </Stack>
  );
}
