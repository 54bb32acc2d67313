import { Button, Group, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { Assignment } from 'warm-lintel';
import { IfAllowed, useChange, useMembers, useRoles, useUnits } from 'warm-lintel/react';
import type { Step } from 'warm-lintel/server';
import { ActionButton, RowButton } from './action.js';
import { Alone } from './alone.js';
import type { Member, Unit } from './api.js';
import { Changing } from './change.js';
import { inForm, outOfForm, rolesOf } from './holding.js';
import { NotOpen } from './not-open.js';
import { Choice, Dialog, Folded, PeopleTabs, placeWords, RoleChoice, Several, useMarked } from './parts.js';

/** The tree of sites, and who is placed where. */
export function UnitsPage({ tenant }: { tenant: string }): ReactNode {
  const { items: units, error } = useUnits();
  const members = useMembers();
  const roles = useRoles();
  const [editing, setEditing] = useState<Unit | 'new'>();
  const change = useChange();
  useMarked(Boolean(units && members.items && roles.items));
  if (error) return <NotOpen tenant={tenant} title="Sites" error={error} />;
  if (!units || !members.items || !roles.items) return null;
  const all = roles.items;
  const held = (unit: string) => rolesOf(all, { unit });
  const label = (role: string) => all.find(({ id }) => id === role)?.label ?? role;
  const depth = (unit: Unit): number => (unit.below === null ? 0 : 1 + depth(units.find(({ id }) => id === unit.below) as Unit));
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <div className="head">
        <Title order={1}>Sites</Title>
        <ActionButton action="unit.arrange" onClick={() => setEditing('new')}>
          Add a site
        </ActionButton>
      </div>
      <Text mt="xs" className="quiet">
        What a site holds, everybody placed there or below holds. What is held at a site reaches its hives and those below.
      </Text>
      <Changing change={change} />
      <ul className="sheet" style={{ listStyle: 'none', marginTop: '1rem' }} aria-label="Sites">
        {units.map((unit) => (
          <li key={unit.id} id={unit.id} style={{ paddingLeft: `${2 * depth(unit)}rem`, paddingBlock: '0.4rem' }}>
            <Group gap="sm">
              <Text fw={600}>{unit.name}</Text>
              <Text size="sm" className="quiet" style={{ flex: '1 1 10rem' }}>
                {unit.people.map(({ name }) => name).join(', ') || 'nobody is placed here'}
              </Text>
              <RowButton action="unit.arrange" onClick={() => setEditing(unit)} label={`Change ${unit.name}`}>
                Change
              </RowButton>
            </Group>
            {held(unit.id).length > 0 && (
              <Text size="sm" className="quiet">
                Everybody here:{' '}
                {held(unit.id)
                  .map(({ role, anchor }) => `${label(role)}${placeWords(anchor)}`)
                  .join(', ')}
              </Text>
            )}
            <IfAllowed action="member.assign">
              <Folded summary="Single permissions">
                <Alone on="unit" id={unit.id} name={unit.name} />
              </Folded>
            </IfAllowed>
          </li>
        ))}
      </ul>
      <Dialog opened={editing !== undefined} onClose={() => setEditing(undefined)} title={editing === 'new' ? 'Add a site' : 'Change a site'}>
        {editing && (
          <UnitForm
            unit={editing === 'new' ? undefined : editing}
            units={units}
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

function UnitForm(props: {
  unit: Unit | undefined;
  units: readonly Unit[];
  held: readonly Assignment[];
  members: readonly Member[];
  propose: (title: string, steps: Step[]) => void;
}): ReactNode {
  const { unit, units, members } = props;
  const { wide, kept } = inForm(props.held);
  const [roles, setRoles] = useState(wide);
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
      ...(JSON.stringify(roles) === JSON.stringify(wide) ? [] : [{ do: 'set-roles', holder: { unit: id }, roles: outOfForm(roles, kept) } as const]),
      ...moved.map((user) => ({ do: 'place', user, units: [...placedIn(user), ...(people.includes(user) ? [id] : [])] }) as const),
    ]);
  };
  return (
    <Stack>
      <TextInput label="Name of the site" value={name} onChange={(event) => setName(event.currentTarget.value)} data-autofocus />
      <Choice label="Lies in" value={below} onChange={setBelow} of={units.filter(({ id }) => id !== unit?.id)} none="nothing: it is at the top" />
      <Several label="Who is placed there" value={people} onChange={setPeople} of={members.map(({ userId, name: called }) => ({ id: userId, name: called }))} />
      <RoleChoice label="Roles that everybody placed there, or below, holds by it" value={roles} onChange={setRoles} people />
      <Button disabled={name.trim() === ''} onClick={propose}>
        See what it does
      </Button>
    </Stack>
  );
}
