import { Alert, Button, Code, Group, NativeSelect, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useChange, useMembers, useRead, useRolesToGive } from 'warm-lintel/react';
import type { Step } from 'warm-lintel/server';
import { Link } from 'wouter';
import { ActionButton, RowButton } from './action.js';
import type { Member } from './api.js';
import { Changing } from './change.js';
import { NotOpen } from './not-open.js';
import { Dialog, PeopleTabs } from './parts.js';

/** Programs that call the application: what they hold, who answers for them, and their keys. */
export function ProgramsPage({ tenant }: { tenant: string }): ReactNode {
  const { data, error } = useRead('listPrograms');
  const members = useMembers();
  const [making, setMaking] = useState(false);
  const change = useChange();
  const secret = change.done.find((one) => one.secret)?.secret;
  if (error) return <NotOpen tenant={tenant} title="Programs" error={error} />;
  if (!data || !members.items) return null;
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <div className="head">
        <Title order={1}>Programs</Title>
        <ActionButton action="program.arrange" onClick={() => setMaking(true)}>
          Take a program in
        </ActionButton>
      </div>
      <Changing change={change} />
      {secret && (
        <Alert color="honey" mt="sm" role="status" title="The key, shown once">
          <Code block>{secret}</Code>
          Keep it where the program finds it. It cannot be shown again; a lost one is replaced by another.
        </Alert>
      )}
      {data.items.length === 0 && (
        <p className="empty">No program comes in here. One holds only what it is given, and is suspended with the member who answers for it.</p>
      )}
      {data.items.map((program) => (
        <section key={program.id} className="sheet" style={{ marginTop: '1rem' }} aria-label={program.name}>
          <Group justify="space-between">
            <Title order={2} size="h4">
              {program.name}
            </Title>
            <Group gap="xs">
              <RowButton
                action="program.arrange"
                onClick={() => change.show([{ do: 'make-key', program: program.id }], `A key for ${program.name}`)}
                label={`Make a key for ${program.name}`}
              >
                Make a key
              </RowButton>
              <RowButton
                action="member.remove"
                variant="default"
                onClick={() => change.show([{ do: 'remove', user: program.id }], `Remove ${program.name}`)}
                label={`Remove ${program.name}`}
              >
                Remove
              </RowButton>
            </Group>
          </Group>
          <Text size="sm">
            {program.responsible.name} answers for it. <Link href={`/t/${tenant}/members/${program.id}`}>What it holds</Link>
          </Text>
          <ul>
            {program.keys.map((key) => (
              <li key={key.id}>
                {key.label}, until {key.endsAt.slice(0, 10)}, {key.lastUsedAt ? `last used ${key.lastUsedAt.slice(0, 16).replace('T', ' ')}` : 'never used'}{' '}
                <Button size="compact-xs" variant="default" onClick={() => change.show([{ do: 'end-key', key: key.id }], 'End a key')}>
                  End it
                </Button>
              </li>
            ))}
            {program.keys.length === 0 && <li>no key that counts</li>}
          </ul>
        </section>
      ))}
      <Dialog opened={making} onClose={() => setMaking(false)} title="Take a program in">
        <ProgramForm
          members={members.items}
          propose={(title, steps) => {
            setMaking(false);
            change.show(steps, title);
          }}
        />
      </Dialog>
    </>
  );
}

function ProgramForm({ members, propose }: { members: readonly Member[]; propose: (title: string, steps: Step[]) => void }): ReactNode {
  const toGive = useRolesToGive().items ?? [];
  const [name, setName] = useState('');
  const [responsible, setResponsible] = useState(members[0]?.userId ?? '');
  const [role, setRole] = useState('');
  const make = () => {
    const id = `program-${crypto.randomUUID()}`;
    propose(name, [
      { do: 'make-program', id, name, responsible },
      ...(role ? [{ do: 'set-roles', holder: { user: id }, roles: [{ role, anchor: { on: 'tenant' } }] } as const] : []),
      { do: 'make-key', program: id },
    ]);
  };
  return (
    <Stack>
      <TextInput label="Name of the program" value={name} onChange={(event) => setName(event.currentTarget.value)} data-autofocus />
      <NativeSelect
        label="Who answers for it"
        value={responsible}
        onChange={(event) => setResponsible(event.currentTarget.value)}
        data={members.map((m) => ({ value: m.userId, label: m.name }))}
      />
      <NativeSelect
        label="Its role"
        value={role}
        onChange={(event) => setRole(event.currentTarget.value)}
        data={[{ value: '', label: 'none yet' }, ...toGive.filter((r) => r.role !== 'keyholder').map((r) => ({ value: r.role, label: r.label }))]}
      />
      <Button disabled={name.trim() === ''} onClick={make}>
        See what it does
      </Button>
    </Stack>
  );
}
