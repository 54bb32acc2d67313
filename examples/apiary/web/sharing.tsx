import { Button, Checkbox, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useChange, useGroups, useMembers, useRead, useStanding, useUnits } from 'warm-lintel/react';
import type { OpeningView, Step } from 'warm-lintel/server';
import { ActionButton, RowButton } from './action.js';
import type { Member, Named } from './api.js';
import { Changing } from './change.js';
import { holderOf } from './holding.js';
import { NotOpen } from './not-open.js';
import { Choice, Dialog, Grid, PeopleTabs, untilEnd } from './parts.js';

const toWords = ({ on, name }: OpeningView['to']) => (on === 'user' ? name : on === 'group' ? `everybody in ${name}` : `everybody placed at ${name}`);

/** What people of a group own, open to others: for whoever joins later too. */
export function SharingPage({ tenant }: { tenant: string }): ReactNode {
  const { data, error } = useRead('listOpenings');
  const groups = useGroups();
  const units = useUnits();
  const members = useMembers();
  const [opening, setOpening] = useState(false);
  const { charter } = useStanding();
  const change = useChange();
  if (error) return <NotOpen tenant={tenant} title="Sharing" error={error} />;
  if (!data || !groups.items || !units.items || !members.items) return null;
  const actionWords = ({ kind, actions }: OpeningView) => actions.map((action) => charter.permission(`${kind}.${action}`).label).join(', ');
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <div className="head">
        <Title order={1}>Sharing</Title>
        <ActionButton action="member.assign" onClick={() => setOpening(true)}>
          Share a group’s records
        </ActionButton>
      </div>
      <Text mt="xs" className="quiet">
        What the people of a group own can be opened to others. Whoever joins the group later is in it too.
      </Text>
      <Changing change={change} />
      {data.items.length === 0 ? (
        <p className="empty">Nothing is shared yet.</p>
      ) : (
        <Grid
          label="Sharing"
          columns={['Of', 'Open to', 'They may', 'Until', 'Who leaves the group', '']}
          rows={data.items.map((one) => ({
            key: one.id,
            cells: [
              `${charter.kind(one.kind).many} of ${one.group.name}`,
              toWords(one.to),
              actionWords(one),
              one.until?.slice(0, 10) ?? 'no end',
              one.keeps ? 'stays open' : 'is no longer open',
              <RowButton
                key="close"
                action="member.assign"
                variant="default"
                label={`Close: ${one.group.name} to ${one.to.name}`}
                onClick={() => change.show([{ do: 'close-records', id: one.id }], `${one.group.name}: no longer open`)}
              >
                Close
              </RowButton>,
            ],
          }))}
        />
      )}
      <Dialog opened={opening} onClose={() => setOpening(false)} title="Share a group’s records">
        {opening && (
          <OpeningForm
            groups={groups.items}
            units={units.items}
            members={members.items}
            propose={(title, step) => {
              setOpening(false);
              change.show([step], title);
            }}
          />
        )}
      </Dialog>
    </>
  );
}

function OpeningForm(props: {
  groups: readonly Named[];
  units: readonly Named[];
  members: readonly Member[];
  propose: (title: string, step: Step) => void;
}): ReactNode {
  const { groups, units, members, propose } = props;
  const { charter } = useStanding();
  const kinds = Object.keys(charter.data.kinds).filter((kind) => charter.fieldWith(kind, 'owner') !== undefined);
  const [group, setGroup] = useState('');
  const [to, setTo] = useState('');
  const [kind, setKind] = useState(kinds[0] as string);
  const [actions, setActions] = useState(['read']);
  const [keeps, setKeeps] = useState(false);
  const [until, setUntil] = useState('');
  const receivers = [
    ...groups.map(({ id, name }) => ({ id: `group ${id}`, name: `everybody in ${name}` })),
    ...units.map(({ id, name }) => ({ id: `unit ${id}`, name: `everybody placed at ${name}` })),
    ...members.map(({ userId, name }) => ({ id: `user ${userId}`, name })),
  ];
  const share = () => {
    const [on, id] = to.split(' ') as ['user' | 'group' | 'unit', string];
    const step = { do: 'open-records', group, to: holderOf(on, id), kind, actions, keeps, ...untilEnd(until) } as const;
    propose(`${charter.kind(kind).many} of ${groups.find((one) => one.id === group)?.name}`, step);
  };
  if (groups.length === 0) return <Text>There is no group yet. Make one first, of those whose records are to be shared.</Text>;
  return (
    <Stack>
      <Choice label="What the people of this group own" value={group} onChange={setGroup} of={groups} none="choose a group …" />
      {kinds.length > 1 && <Choice label="Which records" value={kind} onChange={setKind} of={kinds.map((id) => ({ id, name: charter.kind(id).many }))} />}
      <Choice label="Is open to" value={to} onChange={setTo} of={receivers} none="choose …" />
      <Checkbox.Group label="They may" value={actions} onChange={setActions}>
        <Stack gap={4} mt="xs">
          {Object.entries(charter.kind(kind).actions)
            .filter(([action]) => action !== 'create')
            .map(([action, { label }]) => (
              <Checkbox key={action} value={action} label={label} />
            ))}
        </Stack>
      </Checkbox.Group>
      <Checkbox label="What somebody owns stays open when they leave the group" checked={keeps} onChange={(event) => setKeeps(event.currentTarget.checked)} />
      <TextInput type="date" label="Until" description="Leave it empty for no end" value={until} onChange={(event) => setUntil(event.currentTarget.value)} />
      <Button disabled={!group || !to || actions.length === 0} onClick={share}>
        See what it does
      </Button>
    </Stack>
  );
}
