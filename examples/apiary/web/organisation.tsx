import { Group, NativeSelect, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useChange, useRead, useRoles, useStanding } from 'warm-lintel/react';
import { ActionButton, Refused } from './action.js';
import { Changing } from './change.js';
import { PeopleTabs, reachWords } from './parts.js';
import { Trouble } from './trouble.js';

/** What the organisation is called, whom its people ask, what is shared in it, and its end. */
export function OrganisationPage({ tenant }: { tenant: string }): ReactNode {
  const rules = useRead('rules');
  const roles = useRoles();
  const { charter, facts } = useStanding();
  const [closed, setClosed] = useState(false);
  // What is shown here is in the snapshot too: it is read again.
  const renaming = useChange(() => window.location.reload());
  const choosing = useChange();
  const closing = useChange(() => setClosed(true));
  // Whoever may not set the rules sees the rest all the same.
  if (!rules.data && rules.error?.status !== 403) return rules.error ? <Trouble error={rules.error} /> : null;
  if (closed) return <Text role="status">{facts.tenant.name} is closed. Whoever runs the platform can open it again.</Text>;
  const bases = rules.data?.bases;
  const chosen = Object.entries(charter.data.kinds).filter(([, { base }]) => base);
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Title order={1}>Organisation</Title>
      {roles.items && (
        <Text mt="xs" className="quiet">
          Full control:{' '}
          {roles.items
            .find(({ id }) => id === 'keyholder')
            ?.holders.map(({ name }) => name)
            .join(', ')}
          .
        </Text>
      )}
      <NameForm
        name={facts.tenant.name}
        contact={facts.tenant.contact ?? ''}
        save={(name, contact) => renaming.show([{ do: 'rename-tenant', name, ...(contact && { contact }) }], 'Rename the organisation')}
      />
      <Changing change={renaming} />
      {!bases && <Refused actions={['tenant.rule']} />}
      {bases &&
        chosen.map(([kind, { base, many }]) => (
          <section key={kind} className="sheet" style={{ marginTop: '1rem' }}>
            <Title order={2} size="h4" mb="xs">
              {many.charAt(0).toUpperCase() + many.slice(1)}
            </Title>
            <Group align="flex-end">
              <BaseChoice
                label="Whoever works with them sees"
                value={bases[kind] ?? (base?.[0] as string)}
                of={base ?? []}
                save={(reach) => choosing.show([{ do: 'set-rules', bases: { ...bases, [kind]: reach } }], `${many}: ${reachWords([reach])}`)}
              />
            </Group>
          </section>
        ))}
      <Changing change={choosing} />
      <section className="sheet" style={{ marginTop: '1rem' }}>
        <Title order={2} size="h4" mb="xs">
          Close it
        </Title>
        <Text size="sm" mb="sm">
          Nobody comes in any more. Nothing is deleted, and whoever runs the platform can open it again.
        </Text>
        <ActionButton action="tenant.close" variant="default" onClick={() => closing.show([{ do: 'close-tenant' }], `Close ${facts.tenant.name}`)}>
          Close the organisation
        </ActionButton>
        <Changing change={closing} />
      </section>
    </>
  );
}

function NameForm(props: { name: string; contact: string; save: (name: string, contact: string) => void }): ReactNode {
  const [name, setName] = useState(props.name);
  const [contact, setContact] = useState(props.contact);
  return (
    <section className="sheet" style={{ marginTop: '1rem' }}>
      <Stack maw="30rem" align="flex-start">
        <TextInput label="Name" required w="100%" value={name} onChange={(event) => setName(event.currentTarget.value)} />
        <TextInput
          label="Whom to ask"
          description="Shown to whoever was refused something, or finds nothing open to them"
          w="100%"
          value={contact}
          onChange={(event) => setContact(event.currentTarget.value)}
        />
        <ActionButton action="tenant.rename" onClick={() => props.save(name, contact)}>
          See what it does
        </ActionButton>
      </Stack>
    </section>
  );
}

function BaseChoice(props: { label: string; value: string; of: readonly string[]; save: (reach: string) => void }): ReactNode {
  const { label, of, save } = props;
  const [value, setValue] = useState(props.value);
  return (
    <>
      <NativeSelect
        label={label}
        value={value}
        onChange={(event) => setValue(event.currentTarget.value)}
        data={of.map((reach) => ({ value: reach, label: reachWords([reach]) }))}
      />
      <ActionButton action="tenant.rule" variant="light" onClick={() => save(value)}>
        See what it does
      </ActionButton>
    </>
  );
}
