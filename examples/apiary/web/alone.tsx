import { Button, Group, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useChange, useRead, useStanding, useUnits } from 'warm-lintel/react';
import type { GivenAlone } from 'warm-lintel/server';
import { RowButton } from './action.js';
import { Changing } from './change.js';
import { holderOf } from './holding.js';
import { Choice, placeWords, reachWords, untilEnd } from './parts.js';

const stepOf = ({ permission, reach, anchor, until }: GivenAlone) => ({ permission, reach, anchor, ...(until && { until }) });

/** Single permissions of a member, a group or a unit, beside their roles; and one more to give. */
export function Alone(props: { on: GivenAlone['on']; id: string; name: string }): ReactNode {
  const { on, id, name } = props;
  const given = useRead('listGivenAlone');
  const units = useUnits();
  const { charter } = useStanding();
  const [permission, setPermission] = useState('');
  const [reach, setReach] = useState('');
  const [unitId, setUnitId] = useState('');
  const [until, setUntil] = useState('');
  const change = useChange(() => {
    setPermission('');
  });
  if (!given.data || !units.items) return null;
  const held = given.data.items.filter((one) => one.on === on && one.id === id);
  const set = (title: string, permissions: ReturnType<typeof stepOf>[]) =>
    change.show([{ do: 'set-permissions', holder: holderOf(on, id), permissions }], title);
  const reaches = permission === '' ? [] : charter.reachesOf(permission);
  const chosen = reaches.includes(reach) ? reach : (reaches.at(-1) as string);
  const give = () => {
    const anchor = unitId ? ({ on: 'unit', unitId } as const) : ({ on: 'tenant' } as const);
    set(`${name}: ${charter.permission(permission).label}`, [...held.map(stepOf), { permission, reach: chosen, anchor, ...untilEnd(until) }]);
  };
  return (
    <section aria-label={`Single permissions of ${name}`}>
      <Title order={2} size="h3" mt="xl" mb="xs">
        Single permissions
      </Title>
      <ul className="lines">
        {held.map((one) => (
          <li key={JSON.stringify(stepOf(one))}>
            {charter.permission(one.permission).label}: {reachWords([one.reach])}
            {placeWords(one.anchor)}
            {one.until && `, until ${one.until.slice(0, 10)}`}{' '}
            <RowButton
              action="member.assign"
              variant="default"
              label={`Take from ${name}: ${charter.permission(one.permission).label}`}
              onClick={() => set(`${name}: no longer ${charter.permission(one.permission).label}`, held.filter((other) => other !== one).map(stepOf))}
            >
              Take away
            </RowButton>
          </li>
        ))}
      </ul>
      <Group align="flex-end">
        <Choice
          label="May also"
          value={permission}
          onChange={setPermission}
          of={[...charter.permissions.values()].map((one) => ({ id: one.name, name: `${one.section}: ${one.label}` }))}
          none="choose a permission …"
        />
        {reaches.length > 1 && <Choice label="How far" value={chosen} onChange={setReach} of={reaches.map((one) => ({ id: one, name: reachWords([one]) }))} />}
        {units.items.length > 0 && <Choice label="Where" value={unitId} onChange={setUnitId} of={units.items} none="the whole association" />}
        <TextInput type="date" label="Until" value={until} onChange={(event) => setUntil(event.currentTarget.value)} />
        <Button variant="light" disabled={permission === ''} onClick={give}>
          See what it does
        </Button>
      </Group>
      <Changing change={change} />
    </section>
  );
}
