import { Alert, Button, Group, Stack, Text, Textarea, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useGroups, useInvitations, useUnits } from 'warm-lintel/react';
import { useLoad } from './api.js';
import { Choice, RoleChoice, Several, wayWords } from './parts.js';
import { Trouble } from './trouble.js';

interface Preview {
  opens: { section: string; label: string; ways: string[]; count: number | null; total: number | null }[];
  empty: boolean;
}

/** Inviting, with what the invitation will open shown before it goes out. */
export function InviteForm({ tenant }: { tenant: string }): ReactNode {
  const { send, answers, busy, error } = useInvitations();
  const sites = useUnits().items ?? [];
  const groups = useGroups().items ?? [];
  const [addresses, setAddresses] = useState('');
  const [chosen, setChosen] = useState<string[]>([]);
  const [unitId, setUnitId] = useState('');
  const [units, setUnits] = useState<string[]>([]);
  const [into, setInto] = useState<string[]>([]);
  const [until, setUntil] = useState('');
  const roles = chosen.map((role) => ({ role, anchor: unitId ? ({ on: 'unit', unitId } as const) : ({ on: 'tenant' } as const) }));
  const invite = async () => {
    const list = addresses.split(/[\n,;]+/).map((one) => one.trim());
    const more = { ...(units.length > 0 && { units }), ...(into.length > 0 && { groups: into }), ...(until && { memberUntil: `${until}T23:59:59Z` }) };
    await send(list.filter(Boolean).map((address) => ({ address, roles, ...more })));
    setAddresses('');
  };
  return (
    <Group align="flex-start" gap="xl" wrap="wrap">
      <Stack style={{ flex: '1 1 18rem' }}>
        <Textarea
          label="Addresses"
          description="One a line"
          autosize
          minRows={2}
          value={addresses}
          onChange={(event) => setAddresses(event.currentTarget.value)}
          data-autofocus
        />
        <RoleChoice label="Roles" value={chosen} onChange={setChosen} />
        {sites.length > 0 && (
          <Choice
            label="Held"
            value={unitId}
            onChange={setUnitId}
            of={sites.map(({ id, name }) => ({ id, name: `at ${name} only` }))}
            none="for the whole association"
          />
        )}
        <Several label="Placed at" value={units} onChange={setUnits} of={sites} />
        <Several label="In the groups" value={into} onChange={setInto} of={groups} />
        <TextInput
          type="date"
          label="Member until"
          description="Leave it empty for no end"
          value={until}
          onChange={(event) => setUntil(event.currentTarget.value)}
        />
        <Trouble error={error} />
        {answers.map(({ address, outcome, words, token }) => (
          <Alert key={address} color={outcome === 'invited' ? 'honey' : 'red'} role="status">
            {words}
            {token && <Text size="sm">{`${window.location.origin}/invitation#${token}`}</Text>}
          </Alert>
        ))}
        <Button loading={busy} disabled={addresses.trim() === ''} onClick={invite}>
          Send the invitation
        </Button>
      </Stack>
      <Opens tenant={tenant} like={{ roles: chosen.map((role) => ({ role, ...(unitId && { unitId }) })), units, groups: into }} />
    </Group>
  );
}

/** What somebody would reach who came in so. */
function Opens({ tenant, like }: { tenant: string; like: object }): ReactNode {
  const preview = useLoad<Preview>(`/api/t/${tenant}/invitations/preview`, like).data;
  return (
    <section style={{ flex: '1 1 18rem' }} aria-label="What this opens" aria-live="polite">
      <Title order={3} size="h5">
        What this opens to them
      </Title>
      {preview?.empty && (
        <Alert color="honey" mt="xs">
          With these roles they would find nothing here. Give at least one.
        </Alert>
      )}
      <ul style={{ paddingLeft: '1.1rem' }}>
        {preview?.opens.map(({ section, label, ways, count, total }) => (
          <li key={section + label}>
            {label}
            {ways[0] !== 'yes' && (
              <Text span className="quiet" size="sm">
                : {ways.map(wayWords).join(', ')}
                {count !== null && total !== null ? `, now ${count} of ${total}` : ''}
              </Text>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
