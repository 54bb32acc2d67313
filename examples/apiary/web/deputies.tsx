import { Button, Checkbox, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useChange, useMembers, useRead, useStanding } from 'warm-lintel/react';
import type { DeputyView } from 'warm-lintel/server';
import { ActionButton, RowButton } from './action.js';
import { Changing } from './change.js';
import { Choice, Dialog, Grid } from './parts.js';
import { Trouble } from './trouble.js';

/** Who stands in for whom, until when and for what: one's own, and those of whom one may know. */
export function DeputiesPage(): ReactNode {
  const { data, error } = useRead('listDeputies');
  const [naming, setNaming] = useState(false);
  const { userId, charter } = useStanding();
  const change = useChange();
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const called = ({ id, name }: DeputyView['of']) => (id === userId ? 'you' : name);
  const end = ({ of, to }: DeputyView) => change.show([{ do: 'end-deputy', of: of.id, to: to.id }], `${to.name} stands in for ${of.name} no longer`);
  return (
    <>
      <div className="head">
        <Title order={1}>Deputies</Title>
        <ActionButton action="deputy.name" onClick={() => setNaming(true)}>
          Name a deputy
        </ActionButton>
      </div>
      <Text mt="xs" className="quiet">
        A deputy does with your records what you let them, until the day that you say. The records stay yours, and both names stand on what is done.
      </Text>
      <Changing change={change} />
      {data.items.length === 0 ? (
        <p className="empty">Nobody stands in for anybody.</p>
      ) : (
        <Grid
          label="Deputies"
          columns={['Deputy', 'For', 'May', 'From', 'Until', '']}
          rows={data.items.map((one) => ({
            key: `${one.of.id} ${one.to.id}`,
            cells: [
              called(one.to),
              called(one.of),
              one.permissions.map((name) => charter.permission(name).label).join(', '),
              one.since.slice(0, 10),
              one.until.slice(0, 10),
              // Each of the two may end it, and whoever changes roles.
              [one.of.id, one.to.id].includes(userId ?? '') ? (
                <Button key="end" size="compact-sm" variant="default" onClick={() => end(one)} aria-label={`End: ${one.to.name} for ${one.of.name}`}>
                  End it
                </Button>
              ) : (
                <RowButton key="end" action="member.assign" variant="default" onClick={() => end(one)} label={`End: ${one.to.name} for ${one.of.name}`}>
                  End it
                </RowButton>
              ),
            ],
          }))}
        />
      )}
      <Dialog opened={naming} onClose={() => setNaming(false)} title="Name a deputy">
        {naming && (
          <DeputyForm
            name={(to, permissions, since, until) => {
              setNaming(false);
              const from = since && { since: `${since}T00:00:00Z` };
              change.show([{ do: 'name-deputy', of: userId as string, to, permissions, ...from, until: `${until}T23:59:59Z` }], 'A deputy of yours');
            }}
          />
        )}
      </Dialog>
    </>
  );
}

/** What can be let somebody do: what one may do oneself with a record that is there. */
function DeputyForm({ name }: { name: (to: string, permissions: string[], since: string, until: string) => void }): ReactNode {
  const members = useMembers();
  const standing = useStanding();
  const [to, setTo] = useState('');
  const [permissions, setPermissions] = useState<string[]>([]);
  const [since, setSince] = useState('');
  const [until, setUntil] = useState('');
  const mine = [...standing.charter.permissions.values()].filter(
    ({ kind, action, name: permission }) =>
      kind !== undefined && action !== 'create' && standing.grantsFor(permission as never).some(({ reach }) => reach !== 'shared'),
  );
  const others = (members.items ?? []).filter(({ userId, status }) => userId !== standing.userId && status === 'active');
  return (
    <Stack>
      <Choice label="Deputy" value={to} onChange={setTo} of={others.map(({ userId, name: label }) => ({ id: userId, name: label }))} none="choose somebody …" />
      <Checkbox.Group label="With your records they may" value={permissions} onChange={setPermissions}>
        <Stack gap={4} mt="xs">
          {mine.map((one) => (
            <Checkbox key={one.name} value={one.name} label={one.label} />
          ))}
        </Stack>
      </Checkbox.Group>
      <TextInput type="date" label="From" description="Leave it empty for now" value={since} onChange={(event) => setSince(event.currentTarget.value)} />
      <TextInput type="date" label="Until" required value={until} onChange={(event) => setUntil(event.currentTarget.value)} />
      <Button disabled={!to || !until || permissions.length === 0} onClick={() => name(to, permissions, since, until)}>
        See what it does
      </Button>
    </Stack>
  );
}
