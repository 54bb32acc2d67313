import { Button, Group, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useChange, useDecision, useGroups, useRoles, useRolesToGive, useStanding } from 'warm-lintel/react';
import { ActionButton, RowButton } from './action.js';
import type { Hive, Named } from './api.js';
import { Changing } from './change.js';
import { type Holder, holderOf, rolesOf } from './holding.js';
import { Choice, untilEnd } from './parts.js';

const WORDS = {
  inspectors: { title: 'Inspectors', none: 'Nobody is appointed.', add: 'Appoint', take: 'Dismiss' },
  followers: { title: 'Followers', none: 'Nobody follows it.', add: 'Let follow', take: 'No longer' },
} as const;

/** People who are linked to a hive: those who inspect it, and those who are told what is done to it. */
export function Linked(props: {
  list: keyof typeof WORDS;
  action: string;
  hive: Hive;
  ids: readonly string[];
  people: readonly Named[];
  send: (method: string, to: string, body?: object) => void;
}): ReactNode {
  const { list, action, hive, ids, people, send } = props;
  const { title, none, add, take } = WORDS[list];
  const [user, setUser] = useState('');
  const { userId, facts } = useStanding();
  const { allowed, could } = useDecision(action, hive);
  const may = allowed || (could?.allowed === true && facts.look?.tries === true);
  const name = (id: string) => (id === userId ? 'you' : (people.find((one) => one.id === id)?.name ?? 'somebody'));
  return (
    <section aria-label={title}>
      <Title order={2} size="h3" mt="xl" mb="xs">
        {title}
      </Title>
      {ids.length === 0 && <Text className="quiet">{none}</Text>}
      <ul className="lines">
        {ids.map((id) => (
          <li key={id}>
            {name(id)}{' '}
            <RowButton
              action={action}
              record={hive}
              variant="default"
              label={`${take}: ${name(id)}`}
              onClick={() => send('POST', `/${list}`, { remove: [id] })}
            >
              {take}
            </RowButton>
          </li>
        ))}
      </ul>
      <Group align="flex-end">
        {may && <Choice label="Who" value={user} onChange={setUser} of={people.filter(({ id }) => !ids.includes(id))} none="choose somebody …" />}
        <ActionButton
          action={action}
          record={hive}
          variant="light"
          onClick={() => {
            if (user) send('POST', `/${list}`, { add: [user] });
            setUser('');
          }}
        >
          {add}
        </ActionButton>
      </Group>
    </section>
  );
}

/** Who holds a role for this one hive: several people, and groups; whatever else they hold. */
export function HeldHere({ hive, people }: { hive: Hive; people: readonly Named[] }): ReactNode {
  const roles = useRoles();
  const groups = useGroups();
  const toGive = useRolesToGive();
  const [to, setTo] = useState('');
  const [role, setRole] = useState('');
  const [until, setUntil] = useState('');
  const change = useChange(() => {
    setTo('');
    setRole('');
  });
  if (!roles.items || !groups.items || !toGive.items) return null;
  const all = roles.items;
  const anchor = { on: 'record', kind: 'hive', id: hive.id } as const;
  const here = all.flatMap(({ id, label, holders }) =>
    holders
      .filter((one) => !one.by && one.anchor.on === 'record' && one.anchor.kind === 'hive' && one.anchor.id === hive.id)
      .map((one) => ({ ...one, role: id, label })),
  );
  const set = (title: string, holder: Holder, without: string | undefined, more: { role: string; anchor: typeof anchor; until?: string }[]) =>
    change.show(
      [
        {
          do: 'set-roles',
          holder,
          roles: [...rolesOf(all, holder).filter((one) => !(one.role === without && one.anchor.on === 'record' && one.anchor.id === hive.id)), ...more],
        },
      ],
      title,
    );
  const holders = [
    ...people.map(({ id, name }) => ({ id: `user ${id}`, name })),
    ...groups.items.map(({ id, name }) => ({ id: `group ${id}`, name: `the group ${name}` })),
  ];
  const chosen = holders.find(({ id }) => id === to)?.name ?? '';
  const label = toGive.items.find((one) => one.role === role)?.label ?? '';
  return (
    <section aria-label="Roles for this hive">
      <Title order={2} size="h3" mt="xl" mb="xs">
        Roles for this hive
      </Title>
      <Text size="sm" className="quiet" mb="xs">
        Somebody, or everybody in a group, holds the role here and nowhere else. What hangs on the hive goes with it.
      </Text>
      <ul className="lines">
        {here.map((one) => (
          <li key={one.on + one.id + one.role}>
            {one.on === 'group' ? `the group ${one.name}` : one.name}: {one.label}
            {one.until && `, until ${one.until.slice(0, 10)}`}{' '}
            <Button
              size="compact-sm"
              variant="default"
              aria-label={`Take ${one.label} from ${one.name}`}
              onClick={() => set(`${one.name}: no longer ${one.label} here`, holderOf(one.on, one.id), one.role, [])}
            >
              Take away
            </Button>
          </li>
        ))}
      </ul>
      <Group align="flex-end">
        <Choice label="To" value={to} onChange={setTo} of={holders} none="choose somebody, or a group …" />
        <Choice
          label="Role"
          value={role}
          onChange={setRole}
          of={toGive.items.filter((one) => one.role !== 'keyholder').map((one) => ({ id: one.role, name: one.label }))}
          none="choose a role …"
        />
        <TextInput type="date" label="Until" value={until} onChange={(event) => setUntil(event.currentTarget.value)} />
        <Button
          variant="light"
          disabled={!to || !role}
          onClick={() => {
            const [on, id] = to.split(' ') as ['user' | 'group', string];
            set(`${chosen}: ${label} here`, holderOf(on, id), role, [{ role, anchor, ...untilEnd(until) }]);
          }}
        >
          See what it does
        </Button>
      </Group>
      <Changing change={change} />
    </section>
  );
}
