import { Button, Group, NativeSelect, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { Step, UnitView } from 'warm-lintel/server';
import { ActionButton } from './action.js';
import { type Listed, useLoad } from './api.js';
import { useChange } from './change.js';
import type { MemberRow } from './members.js';
import { Dialog, PeopleChoice, PeopleTabs } from './parts.js';
import { Trouble } from './trouble.js';

/** The tree of sites, and who is placed where. */
export function UnitsPage({ tenant }: { tenant: string }): ReactNode {
  const at = `/lintel/tenants/${tenant}`;
  const { data, error, reload } = useLoad<Listed<UnitView>>(`${at}/units`);
  const members = useLoad<Listed<MemberRow>>(`${at}/members?limit=200`);
  const [editing, setEditing] = useState<UnitView | 'new'>();
  const change = useChange(tenant, reload);
  if (error) return <Trouble error={error} />;
  if (!data || !members.data) return null;
  const units = data.items;
  const depth = (unit: UnitView): number => (unit.below === null ? 0 : 1 + depth(units.find(({ id }) => id === unit.below) as UnitView));
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Group justify="space-between" align="flex-start">
        <Title order={1}>Sites</Title>
        <ActionButton action="unit.arrange" onClick={() => setEditing('new')}>
          Add a site
        </ActionButton>
      </Group>
      {change.trouble}
      <ul className="sheet" style={{ listStyle: 'none', marginTop: '1rem' }} aria-label="Sites">
        {units.map((unit) => (
          <li key={unit.id} style={{ paddingLeft: `${2 * depth(unit)}rem`, paddingBlock: '0.4rem' }}>
            <Group gap="sm">
              <Text fw={600}>{unit.name}</Text>
              <Text size="sm" className="quiet" style={{ flex: 1 }}>
                {unit.people.map(({ name }) => name).join(', ') || 'nobody is placed here'}
              </Text>
              <Button size="compact-sm" variant="light" onClick={() => setEditing(unit)} aria-label={`Change ${unit.name}`}>
                Change
              </Button>
            </Group>
          </li>
        ))}
      </ul>
      <Dialog opened={editing !== undefined} onClose={() => setEditing(undefined)} title={editing === 'new' ? 'Add a site' : 'Change a site'}>
        {editing && (
          <UnitForm
            unit={editing === 'new' ? undefined : editing}
            units={units}
            members={members.data.items}
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

function UnitForm(props: {
  unit: UnitView | undefined;
  units: readonly UnitView[];
  members: readonly MemberRow[];
  propose: (title: string, steps: Step[]) => void;
}): ReactNode {
  const { unit, units, members } = props;
  const [name, setName] = useState(unit?.name ?? '');
  const [below, setBelow] = useState(unit?.below ?? '');
  const before = unit?.people.map(({ id }) => id) ?? [];
  const [people, setPeople] = useState(before);
  const placedIn = (user: string) => units.filter((one) => one.id !== unit?.id && one.people.some(({ id }) => id === user)).map(({ id }) => id);
  const propose = () => {
    const id = unit?.id ?? crypto.randomUUID();
    const moved = [...people.filter((one) => !before.includes(one)), ...before.filter((one) => !people.includes(one))];
    props.propose(name, [
      ...(unit ? [] : [{ do: 'add-unit', id, name, ...(below && { below }) } as const]),
      ...(unit && unit.name !== name ? [{ do: 'rename-unit', id, name } as const] : []),
      ...(unit && (unit.below ?? '') !== below ? [{ do: 'move-unit', id, below: below || null } as const] : []),
      ...moved.map((user) => ({ do: 'place', user, units: [...placedIn(user), ...(people.includes(user) ? [id] : [])] }) as const),
    ]);
  };
  return (
    <Stack>
      <TextInput label="Name of the site" value={name} onChange={(event) => setName(event.currentTarget.value)} data-autofocus />
      <NativeSelect
        label="Lies in"
        value={below}
        onChange={(event) => setBelow(event.currentTarget.value)}
        data={[
          { value: '', label: 'nothing: it is at the top' },
          ...units.filter(({ id }) => id !== unit?.id).map((one) => ({ value: one.id, label: one.name })),
        ]}
      />
      <PeopleChoice label="Who is placed there" value={people} onChange={setPeople} members={members} />
      <Button disabled={name.trim() === ''} onClick={propose}>
        See what it does
      </Button>
    </Stack>
  );
}
