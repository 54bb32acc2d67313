import { Alert, Button, Group, Stack, Text, Textarea, TextInput, Title } from '@mantine/core';
import { type ReactNode, useEffect, useState } from 'react';
import { call, type Named } from './api.js';
import type { RoleToGive } from './members.js';
import { Choice, RoleChoice, Several, wayWords } from './parts.js';
import { Trouble, useTry } from './trouble.js';

interface Preview {
  opens: { section: string; label: string; ways: string[]; count: number | null; total: number | null }[];
  empty: boolean;
}
interface Answer {
  address: string;
  outcome: string;
  words: string;
  token?: string;
}

/** Inviting, with what the invitation will open shown before it goes out. */
export function InviteForm({
  tenant,
  toGive,
  sites,
  groups,
  done,
}: {
  tenant: string;
  toGive: readonly RoleToGive[];
  sites: readonly Named[];
  groups: readonly Named[];
  done: () => void;
}): ReactNode {
  const [addresses, setAddresses] = useState('');
  const [roles, setRoles] = useState<string[]>([]);
  const [unitId, setUnitId] = useState('');
  const [units, setUnits] = useState<string[]>([]);
  const [into, setInto] = useState<string[]>([]);
  const [until, setUntil] = useState('');
  // A second press on the button, or a repeat after a lost answer, invites nobody twice.
  const [idempotencyKey, setIdempotencyKey] = useState(() => crypto.randomUUID());
  const [preview, setPreview] = useState<Preview>();
  const [answers, setAnswers] = useState<Answer[]>([]);
  const { error, busy, run } = useTry();
  const chosen = roles.map((role) => ({ role, ...(unitId && { unitId }) }));
  const key = JSON.stringify({ roles: chosen, units, groups: into });
  useEffect(() => {
    let current = true;
    call<Preview>('POST', `/api/t/${tenant}/invitations/preview`, JSON.parse(key)).then(
      (found) => current && setPreview(found),
      () => current && setPreview(undefined),
    );
    return () => {
      current = false;
    };
  }, [tenant, key]);
  const send = () =>
    run(async () => {
      const list = addresses
        .split(/[\n,;]+/)
        .map((a) => a.trim())
        .filter(Boolean);
      const held = chosen.map(({ role }) => ({ role, anchor: unitId ? { on: 'unit', unitId } : { on: 'tenant' } }));
      const more = { ...(units.length > 0 && { units }), ...(into.length > 0 && { groups: into }), ...(until && { memberUntil: `${until}T23:59:59Z` }) };
      const invitations = list.map((address) => ({ address, roles: held, ...more }));
      setAnswers((await call<{ answers: Answer[] }>('POST', `/lintel/tenants/${tenant}/invitations`, { invitations }, idempotencyKey)).answers);
      setIdempotencyKey(crypto.randomUUID());
      setAddresses('');
      done();
    });
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
        <RoleChoice label="Roles" value={roles} onChange={setRoles} toGive={toGive} />
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
        <Button loading={busy} disabled={addresses.trim() === ''} onClick={send}>
          Send the invitation
        </Button>
        <Trouble error={error} />
        {answers.map((answer) => (
          <Alert key={answer.address} color={answer.outcome === 'invited' ? 'honey' : 'red'} role="status">
            {answer.words}
            {answer.token && <Text size="sm">{`${window.location.origin}/invitation#${answer.token}`}</Text>}
          </Alert>
        ))}
      </Stack>
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
          {preview?.opens.map((line) => (
            <li key={line.section + line.label}>
              {line.label}
              {line.ways[0] !== 'yes' && (
                <Text span className="quiet" size="sm">
                  : {line.ways.map(wayWords).join(', ')}
                  {line.count !== null && line.total !== null ? `, now ${line.count} of ${line.total}` : ''}
                </Text>
              )}
            </li>
          ))}
        </ul>
      </section>
    </Group>
  );
}
