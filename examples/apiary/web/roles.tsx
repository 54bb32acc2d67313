import { Button, Checkbox, Group, NativeSelect, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { RoleView, Step } from 'warm-lintel/server';
import { charter } from '../world/charter.js';
import { ActionButton } from './action.js';
import { type Listed, useLoad } from './api.js';
import { useChange } from './change.js';
import { Dialog, PeopleTabs, placeWords, wayWords } from './parts.js';
import { Trouble } from './trouble.js';

const permissions = [...charter.permissions.values()];
const reachWords = (reaches: readonly string[] | undefined) =>
  reaches?.map((reach) => (reach === 'tenant' || reach === 'shared' ? 'all' : wayWords(reach))).join(', ') ?? '';

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
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const roles = data.items;
  const [keyholder, ...others] = roles as [RoleView, ...RoleView[]];
  const given = new Map(others.map((role) => [role.id, givenBy(roles, role)]));
  const shown = permissions.filter(({ name }) => others.some(({ id }) => given.get(id)?.[name]));
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Group justify="space-between" align="flex-start">
        <Title order={1}>Roles</Title>
        <ActionButton action="role.arrange" onClick={() => setEditing({ from: { ...keyholder, id: '', label: '', sentence: '', may: {}, includes: [] } })}>
          Make a role
        </ActionButton>
      </Group>
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
                <th scope="col" key={role.id}>
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
  const small = { size: 'compact-xs', variant: 'default' } as const;
  return (
    <Group gap={4} mt={4}>
      {role.own && (
        <Button {...small} onClick={onEdit} aria-label={`Change ${role.label}`}>
          Change
        </Button>
      )}
      <Button {...small} onClick={onCopy} aria-label={`Copy ${role.label}`}>
        Copy
      </Button>
      {role.own && (
        <Button {...small} onClick={onDrop} aria-label={`Drop ${role.label}`}>
          Drop
        </Button>
      )}
    </Group>
  );
}

/** A role of one's own, permission by permission; what one of them does not work without is named beside it. */
function RoleForm({ from, id, propose }: { from: RoleView; id: string | undefined; propose: (title: string, step: Step) => void }): ReactNode {
  const [label, setLabel] = useState(from.label);
  const [may, setMay] = useState<Record<string, readonly string[]>>(from.may);
  const sections = [...new Set(permissions.map(({ section }) => section))];
  const set = (name: string, reaches: readonly string[]) => {
    const { [name]: _, ...rest } = may;
    setMay(reaches.length > 0 ? { ...rest, [name]: reaches } : rest);
  };
  const save = () => {
    const role = { label, includes: from.includes, gives: from.gives, may };
    propose(label, id === undefined ? { do: 'make-role', role } : { do: 'edit-role', id, role });
  };
  return (
    <Stack>
      <TextInput label="Name of the role" value={label} onChange={(event) => setLabel(event.currentTarget.value)} data-autofocus />
      {sections.map((section) => (
        <fieldset key={section} style={{ border: '1px solid #e8dfcc', borderRadius: 8 }}>
          <legend>{section}</legend>
          {permissions
            .filter((p) => p.section === section)
            .map((p) => {
              const lacks = may[p.name] ? (p.needs ?? []).filter((need) => !may[need]) : [];
              return (
                <Group key={p.name} gap="sm" align="center" my={4} wrap="nowrap">
                  <Checkbox
                    style={{ flex: 1 }}
                    label={p.label}
                    description={
                      lacks.length > 0 ? `does not work without: ${lacks.map((need) => charter.permission(need as never).label).join(', ')}` : p.sentence
                    }
                    checked={Boolean(may[p.name])}
                    onChange={(event) => set(p.name, event.currentTarget.checked ? [charter.reachesOf(p.name).at(-1) as string] : [])}
                  />
                  {may[p.name] && charter.reachesOf(p.name).length > 1 && (
                    <NativeSelect
                      aria-label={`How far: ${p.label}`}
                      size="xs"
                      value={may[p.name]?.join()}
                      onChange={(event) => set(p.name, event.currentTarget.value.split(','))}
                      data={[...new Set([may[p.name]?.join() ?? '', ...charter.reachesOf(p.name)])].map((reach) => ({
                        value: reach,
                        label: reachWords(reach.split(',')),
                      }))}
                    />
                  )}
                </Group>
              );
            })}
        </fieldset>
      ))}
      <Button disabled={label.trim() === ''} onClick={save}>
        See what it does
      </Button>
    </Stack>
  );
}
