import { Alert, Badge, Button, Group, JsonInput, NativeSelect, Stack, Table, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { type Change, useChange, useChanged, useRead } from 'warm-lintel/react';
import type { AdmissionRule, Connection, TriedArrival } from 'warm-lintel/server';
import { client } from './api.js';
import { Changing, ProposalView } from './change.js';
import { NotOpen } from './not-open.js';
import { Dialog, PeopleTabs } from './parts.js';
import { Trouble, useTry } from './trouble.js';

const STATE = { draft: 'draft', on: 'on', off: 'turned off' } as const;
const EXAMPLE = '{ "sub": "c-1017", "name": "Nora Fern", "associations": ["alderbrook"], "groups": ["site-wardens"], "site": "Heath edge" }';

/** Each rule on a line of its own. */
const text = (rules: readonly AdmissionRule[]) => (rules.length === 0 ? '[]' : `[\n${rules.map((one) => `  ${JSON.stringify(one)}`).join(',\n')}\n]`);

/** JSON as it was typed; undefined for what is none. */
function read<T>(typed: string): T | undefined {
  try {
    return JSON.parse(typed) as T;
  } catch {
    return undefined;
  }
}

/** The providers by which people come in, for whoever has full control. */
export function ConnectionsPage({ tenant }: { tenant: string }): ReactNode {
  const connections = useRead('listConnections');
  const refused = useRead('listRefused');
  const [making, setMaking] = useState(false);
  const [editing, setEditing] = useState<Connection>();
  const change = useChange(() => {
    setMaking(false);
    setEditing(undefined);
  });
  if (connections.error) return <NotOpen tenant={tenant} title="Sign-in by providers" error={connections.error} />;
  if (!connections.data) return null;
  const turn = ({ id, name, state }: Connection) => {
    const to = state === 'on' ? 'off' : 'on';
    change.show([{ do: 'turn-connection', id, to }], `Turn ${name} ${to}`);
  };
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Group justify="space-between">
        <Title order={1}>Sign-in by providers</Title>
        <Button onClick={() => setMaking(true)}>Add a provider</Button>
      </Group>
      <Text className="quiet" mt="xs">
        Whoever sets up a provider decides who comes in by it. Everybody with full control is told of each change.
      </Text>
      <Changing change={change} />
      {connections.data.items.map((one) => (
        <section key={one.id} className="sheet" aria-label={one.name} style={{ marginTop: '1rem' }}>
          <Group justify="space-between" align="flex-start">
            <div>
              <Title order={2} size="h4">
                {one.name}{' '}
                <Badge variant="outline" color="gray.7">
                  {STATE[one.state]}
                </Badge>
              </Title>
              <Text size="sm" className="quiet">
                {one.terms.kind === 'oidc' ? 'OpenID Connect' : 'SAML 2.0'} · {one.terms.issuer} · {one.people} {one.people === 1 ? 'person' : 'people'}
                {one.terms.kind === 'oidc' && !one.hasSecret && ' · no secret yet'}
                {!one.isTried && ' · not tried as it is'}
              </Text>
            </div>
            <Group>
              <Button variant="light" onClick={() => setEditing(one)}>
                Rules
              </Button>
              <Button variant="light" onClick={() => turn(one)}>
                {one.state === 'on' ? 'Turn off' : 'Turn on'}
              </Button>
              <Button variant="default" onClick={() => change.show([{ do: 'drop-connection', id: one.id }], `Drop ${one.name}`)}>
                Drop
              </Button>
            </Group>
          </Group>
        </section>
      ))}
      {connections.data.items.length === 0 && <Text mt="md">There is none: people come by invitation.</Text>}
      {refused.data && refused.data.items.length > 0 && (
        <section aria-label="Not let in" style={{ marginTop: '2rem' }}>
          <Title order={2} size="h4">
            Not let in, or not given what came
          </Title>
          <div className="scroll">
            <Table aria-label="Not let in">
              <Table.Thead>
                <Table.Tr>
                  <Table.Th>Who</Table.Th>
                  <Table.Th>Why not</Table.Th>
                  <Table.Th>When</Table.Th>
                  <Table.Th>What to do</Table.Th>
                </Table.Tr>
              </Table.Thead>
              <Table.Tbody>
                {refused.data.items.map((one) => (
                  <Table.Tr key={one.connection + one.subject}>
                    <Table.Td>
                      {one.name}
                      <Text size="sm" className="quiet">
                        {one.address}
                      </Text>
                    </Table.Td>
                    <Table.Td>{one.words}</Table.Td>
                    <Table.Td>{one.at.slice(0, 16).replace('T', ' ')}</Table.Td>
                    <Table.Td>
                      {one.code === 'removed-here' && (
                        <Button
                          size="compact-sm"
                          variant="light"
                          onClick={() => change.show([{ do: 'unbar', connection: one.connection, subject: one.subject }], `Let ${one.name} in again`)}
                        >
                          Let in again
                        </Button>
                      )}
                    </Table.Td>
                  </Table.Tr>
                ))}
              </Table.Tbody>
            </Table>
          </div>
        </section>
      )}
      <Domains tenant={tenant} connections={connections.data.items} />
      <Directories />
      <Dialog opened={making} onClose={() => setMaking(false)} title="Add a provider" size="lg">
        <MakeForm show={change.show} />
      </Dialog>
      <Dialog opened={editing !== undefined} onClose={() => setEditing(undefined)} title={`Rules of ${editing?.name ?? ''}`} size="xl">
        {editing && <RulesForm key={editing.id} tenant={tenant} connection={editing} show={change.show} />}
      </Dialog>
    </>
  );
}

/** Mail domains: whose people are sent to which provider. */
function Domains({ tenant, connections }: { tenant: string; connections: readonly Connection[] }): ReactNode {
  const { data, reload } = useRead('listDomains');
  const [domain, setDomain] = useState('');
  const looking = useTry();
  const change = useChange(() => {
    setDomain('');
  });
  if (!data) return null;
  const look = (one: string) =>
    looking.run(async () => {
      await client.proveDomain({ tenant, domain: one });
      reload();
    });
  return (
    <section aria-label="Mail domains" style={{ marginTop: '2rem' }}>
      <Title order={2} size="h4">
        Mail domains
      </Title>
      <Text size="sm" className="quiet">
        People of a domain that you have shown to be yours are sent to a provider, and members with such an address are known there.
      </Text>
      {data.items.map((one) => {
        const isShown = one.provenAt !== undefined && one.lapsedAt === undefined;
        return (
          <div key={one.domain} className="sheet" style={{ marginTop: '1rem' }}>
            <Group justify="space-between" align="flex-start">
              <div>
                <Text fw={600}>{one.domain}</Text>
                <Text size="sm" className="quiet">
                  {isShown ? 'Shown to be yours' : one.lapsedAt ? 'Its record is gone: it counts no more' : 'Not shown yet'}
                </Text>
                {!isShown && (
                  <Text size="sm" style={{ overflowWrap: 'anywhere' }}>
                    Put this into the DNS, as TXT: <code>{one.record.name}</code> <code>{one.record.value}</code>
                  </Text>
                )}
              </div>
              <Group>
                {isShown ? (
                  <NativeSelect
                    aria-label={`Provider for ${one.domain}`}
                    value={one.connection ?? ''}
                    onChange={({ currentTarget: { value } }) =>
                      change.show([{ do: 'send-domain', domain: one.domain, connection: value === '' ? null : value }], `People of ${one.domain}`)
                    }
                    data={[{ value: '', label: 'sent to no provider' }, ...connections.map(({ id, name }) => ({ value: id, label: name }))]}
                  />
                ) : (
                  <Button variant="light" loading={looking.busy} onClick={() => look(one.domain)}>
                    Look for it
                  </Button>
                )}
                <Button variant="default" onClick={() => change.show([{ do: 'give-up-domain', domain: one.domain }], `Give ${one.domain} up`)}>
                  Give it up
                </Button>
              </Group>
            </Group>
          </div>
        );
      })}
      <Group align="flex-end" mt="md">
        <TextInput label="Another domain" placeholder="alderbrook.example" value={domain} onChange={(event) => setDomain(event.currentTarget.value)} />
        <Button variant="light" disabled={domain === ''} onClick={() => change.show([{ do: 'claim-domain', domain }], `${domain} is ours`)}>
          Add
        </Button>
      </Group>
      <Trouble error={looking.error} />
      <Changing change={change} />
    </section>
  );
}

/** What directories have brought by SCIM. */
function Directories(): ReactNode {
  const { data } = useRead('listDirectories');
  if (!data || data.items.length === 0) return null;
  return (
    <section aria-label="Directories" style={{ marginTop: '2rem' }}>
      <Title order={2} size="h4">
        Directories
      </Title>
      {data.items.map(({ program, name, users, active, arrived, groups, unknown }) => (
        <div key={program} className="sheet" style={{ marginTop: '1rem' }}>
          <Text fw={600}>{name}</Text>
          <Text size="sm">
            {users} people, of whom {active} are active and {arrived} have come in.
          </Text>
          {groups.map((group) => (
            <Text key={group.id} size="sm">
              {group.name}: {group.people === 1 ? '1 person' : `${group.people} people`};{' '}
              {group.roles === 0 ? 'no role is given to it' : `${group.roles} ${group.roles === 1 ? 'role is' : 'roles are'} given to it`}
            </Text>
          ))}
          {unknown.length > 0 && (
            <Text size="sm" className="quiet">
              Not known here, and kept out: {unknown.join(', ')}
            </Text>
          )}
        </div>
      ))}
    </section>
  );
}

type Show = Change['show'];

function MakeForm({ show }: { show: Show }): ReactNode {
  const [form, setForm] = useState({ name: '', issuer: '', clientId: '' });
  const field = (name: keyof typeof form) => ({
    value: form[name],
    onChange: (event: { currentTarget: { value: string } }) => setForm({ ...form, [name]: event.currentTarget.value }),
  });
  const { name, issuer, clientId } = form;
  return (
    <Stack>
      <TextInput label="What people call it" {...field('name')} />
      <TextInput label="Issuer" description="As the provider calls itself: https://sign-in.county.example" {...field('issuer')} />
      <TextInput label="Client id" description="By what the provider knows this application" {...field('clientId')} />
      <Button
        disabled={Object.values(form).includes('')}
        style={{ alignSelf: 'flex-start' }}
        onClick={() => show([{ do: 'make-connection', name, terms: { kind: 'oidc', issuer, clientId } }], `Add ${name}`)}
      >
        Add it as a draft
      </Button>
    </Stack>
  );
}

/** The rules, tried with claims before they count; and the secret, which is shown to nobody. */
function RulesForm({ tenant, connection, show }: { tenant: string; connection: Connection; show: Show }): ReactNode {
  const [rules, setRules] = useState(text(connection.rules));
  const [claims, setClaims] = useState(EXAMPLE);
  const [secret, setSecret] = useState('');
  const [tried, setTried] = useState<TriedArrival>();
  const trying = useTry();
  const keeping = useTry();
  const changed = useChanged();
  const [typed, given] = [read<AdmissionRule[]>(rules), read<Record<string, unknown>>(claims)];
  const attempt = () =>
    trying.run(async () => {
      if (!typed || !given) return;
      setTried(await client.tryConnection({ tenant, connection: connection.id, claims: given, rules: typed }));
      changed();
    });
  const keep = () =>
    keeping.run(async () => {
      await client.setConnectionSecret({ tenant, connection: connection.id, secret });
      setSecret('');
      changed();
    });
  return (
    <Stack>
      <JsonInput
        label="Rules"
        description="In order: what is required, what a claim’s value gives, and by which claim an attribute is said."
        value={rules}
        onChange={setRules}
        validationError="This is no JSON"
        autosize
        minRows={6}
        maxRows={14}
        styles={{ input: { fontFamily: 'monospace', fontSize: '0.85rem' } }}
      />
      <JsonInput
        label="Claims to try them with"
        value={claims}
        onChange={setClaims}
        validationError="This is no JSON"
        autosize
        minRows={2}
        styles={{ input: { fontFamily: 'monospace', fontSize: '0.85rem' } }}
      />
      <Group>
        <Button variant="light" loading={trying.busy} disabled={!typed || !given} onClick={attempt}>
          Try it
        </Button>
        <Button
          disabled={!typed || tried === undefined}
          onClick={() => show([{ do: 'edit-connection', id: connection.id, rules: typed ?? [] }], `Rules of ${connection.name}`)}
        >
          Save the rules
        </Button>
      </Group>
      <Trouble error={trying.error} />
      {tried && <Outcome tried={tried} />}
      {connection.terms.kind === 'oidc' && (
        <Group align="flex-end">
          <TextInput
            label={connection.hasSecret ? 'Another client secret' : 'Client secret'}
            description="Kept sealed, and shown to nobody again"
            value={secret}
            onChange={(event) => setSecret(event.currentTarget.value)}
            type="password"
            autoComplete="off"
            style={{ flex: '1 1 16rem' }}
          />
          <Button variant="light" loading={keeping.busy} disabled={secret === ''} onClick={keep}>
            Keep it
          </Button>
        </Group>
      )}
      <Trouble error={keeping.error} />
    </Stack>
  );
}

function Outcome({ tried: { arrived, proposal } }: { tried: TriedArrival }): ReactNode {
  const { admission, outcome, said } = arrived;
  const { roles, groups, units } = admission.gives;
  const count = [
    [roles.length, 'role'],
    [groups.length, 'group'],
    [units.length, 'placement'],
  ] as const;
  const gives = count.filter(([n]) => n > 0).map(([n, what]) => `${n} ${what}${n === 1 ? '' : 's'}`);
  return (
    <section aria-label="What it would do" aria-live="polite">
      <Alert color={outcome === 'in' ? 'honey' : 'red'} mb="sm">
        {outcome === 'in' ? `Would come in, with ${gives.join(', ') || 'nothing'}.` : `Would be refused. ${said?.words ?? ''}`}
        {outcome === 'in' && said && ` Not given: ${said.words}`}
      </Alert>
      {admission.spoke.length > 0 && <Text size="sm">Rules that spoke: {admission.spoke.map(({ rule }) => rule + 1).join(', ')}.</Text>}
      {admission.unknown.map(({ claim, values }) => (
        <Text key={claim} size="sm">
          Not known in {claim}: {values.join(', ')}. That gives nothing.
        </Text>
      ))}
      <ProposalView proposal={{ ...proposal, problems: [] }} />
    </section>
  );
}
