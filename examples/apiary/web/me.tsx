import { Button, Group, PasswordInput, Stack, Table, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useState } from 'react';
import { Link } from 'wouter';
import { call, type Listed, type MeAnswer, useLoad } from './api.js';
import { LookAtMail } from './letters.js';
import { makePasskey } from './passkeys.js';
import type { Account } from './trouble.js';
import { Trouble, useTry } from './trouble.js';

const dayAndTime = (moment: string) => moment.slice(0, 16).replace('T', ' ');

/** Everything of one's own: name, password, second factor, where one is signed in, organisations. */
export function MePage({ me, reload }: { me: MeAnswer; reload: () => void }): ReactNode {
  const account = useLoad<{ account: Account | null }>('/lintel/account');
  if (!account.data?.account) return account.error ? <Trouble error={account.error} /> : null;
  const again = () => {
    account.reload();
    reload();
  };
  return (
    <main className="page" style={{ maxWidth: '46rem' }}>
      <Group justify="space-between">
        <Title order={1}>{account.data.account.name}</Title>
        <Link href="/">To my organisations</Link>
      </Group>
      <Stack mt="md" gap="md">
        <Who account={account.data.account} me={me} onDone={again} />
        <Password />
        <SecondFactor account={account.data.account} me={me} onDone={again} />
        <Passkeys account={account.data.account} onDone={again} />
        <Sessions />
        <SignIns />
        <Organisations me={me} onDone={again} />
      </Stack>
    </main>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }): ReactNode {
  return (
    <section className="sheet" aria-label={title}>
      <Title order={2} size="h4" mb="xs">
        {title}
      </Title>
      {children}
    </section>
  );
}

function Who({ account, me, onDone }: { account: Account; me: MeAnswer; onDone: () => void }): ReactNode {
  const [name, setName] = useState(account.name);
  const [address, setAddress] = useState(account.address);
  const [asked, setAsked] = useState(false);
  const { error, busy, run } = useTry();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    run(async () => {
      if (name !== account.name) await call('POST', '/lintel/me/name', { name });
      if (address !== account.address) {
        await call('POST', '/lintel/me/address', { address });
        setAsked(true);
      }
      onDone();
    });
  };
  return (
    <Part title="Name and address">
      <form onSubmit={submit}>
        <Stack gap="xs">
          <TextInput label="Name" value={name} required autoComplete="name" onChange={(event) => setName(event.currentTarget.value)} />
          <TextInput
            label="E-mail address"
            description="A new address counts once you have followed the link that goes there."
            type="email"
            required
            autoComplete="email"
            value={address}
            onChange={(event) => setAddress(event.currentTarget.value)}
          />
          <Group>
            <Button type="submit" loading={busy} disabled={name === account.name && address === account.address}>
              Save
            </Button>
          </Group>
          <Trouble error={error} />
          {asked && <LookAtMail me={me} address={address} />}
        </Stack>
      </form>
    </Part>
  );
}

function Password(): ReactNode {
  const [form, setForm] = useState({ present: '', next: '' });
  const [done, setDone] = useState(false);
  const { error, busy, run } = useTry();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    run(async () => {
      await call('POST', '/lintel/account/password', form);
      setForm({ present: '', next: '' });
      setDone(true);
    });
  };
  const field = (name: keyof typeof form) => ({
    value: form[name],
    required: true,
    onChange: (event: FormEvent<HTMLInputElement>) => setForm({ ...form, [name]: event.currentTarget.value }),
    visibilityToggleButtonProps: { 'aria-label': 'Show or hide the password' },
  });
  return (
    <Part title="Password">
      <form onSubmit={submit}>
        <Stack gap="xs">
          <PasswordInput label="Present password" autoComplete="current-password" {...field('present')} />
          <PasswordInput
            label="New password"
            autoComplete="new-password"
            description="At least 15 characters, or 8 beside a second factor"
            {...field('next')}
          />
          <Group>
            <Button type="submit" loading={busy}>
              Change my password
            </Button>
            {done && <Text role="status">Changed. Every other device was signed out.</Text>}
          </Group>
          <Trouble error={error} />
        </Stack>
      </form>
    </Part>
  );
}

function RecoveryCodes({ codes }: { codes: readonly string[] }): ReactNode {
  return (
    <div role="status">
      <Text mt="sm">
        Ten recovery codes, each good for one sign-in without your authenticator. <strong>They are shown this once</strong>: keep them where you keep passwords.
      </Text>
      <ul style={{ columns: 2, fontFamily: 'monospace' }}>
        {codes.map((code) => (
          <li key={code}>{code}</li>
        ))}
      </ul>
    </div>
  );
}

function SecondFactor({ account, me, onDone }: { account: Account; me: MeAnswer; onDone: () => void }): ReactNode {
  const [asked, setAsked] = useState(false);
  const [codes, setCodes] = useState<readonly string[]>();
  const { error, busy, run } = useTry();
  const ask = () => run(async () => call('POST', '/lintel/account/factor/ask', {}).then(() => setAsked(true)));
  const renew = () => run(async () => setCodes((await call<{ recoveryCodes: string[] }>('POST', '/lintel/account/factor/recovery-codes', {})).recoveryCodes));
  const remove = () => run(async () => call('POST', '/lintel/account/factor/remove', {}).then(onDone));
  return (
    <Part title="Second factor">
      <Text size="sm" className="quiet" mb="xs">
        {account.hasFactor
          ? 'Signing in takes a code of your authenticator besides the password.'
          : 'With a second factor, whoever knows your password cannot sign in without your telephone.'}
      </Text>
      <Group>
        {account.hasFactor ? (
          <>
            <Button variant="default" loading={busy} onClick={renew}>
              New recovery codes
            </Button>
            <Button variant="default" loading={busy} onClick={remove}>
              Remove the second factor
            </Button>
          </>
        ) : (
          <Button variant="default" loading={busy} onClick={ask}>
            Add a second factor
          </Button>
        )}
      </Group>
      <Trouble error={error} />
      {asked && !account.hasFactor && <LookAtMail me={me} address={account.address} />}
      {codes && <RecoveryCodes codes={codes} />}
    </Part>
  );
}

/** Behind the link of the letter: the picture to be scanned, and the first code. */
export function FactorPage(): ReactNode {
  const [factor, setFactor] = useState<{ svg: string; secret: string }>();
  const [code, setCode] = useState('');
  const [codes, setCodes] = useState<readonly string[]>();
  const { error, busy, run } = useTry();
  const begin = () => run(async () => setFactor(await call('POST', '/lintel/account/factor/begin', { token: window.location.hash.slice(1) })));
  const passkey = () => run(async () => setCodes((await makePasskey(window.location.hash.slice(1))).recoveryCodes ?? []));
  const confirm = (event: FormEvent) => {
    event.preventDefault();
    run(async () => setCodes((await call<{ recoveryCodes: string[] }>('POST', '/lintel/account/factor/confirm', { code })).recoveryCodes));
  };
  return (
    <main className="page" style={{ maxWidth: '32rem' }}>
      <div className="sheet">
        <Title order={1}>{codes ? 'Your second factor counts' : 'Add a second factor'}</Title>
        {!factor && (
          <Stack mt="md">
            <Text>You need an authenticator: a program on your telephone that makes codes.</Text>
            <Button loading={busy} onClick={begin}>
              Show me the picture
            </Button>
            <Text>Or let this device show who you are, by your finger, face or its code.</Text>
            <Button variant="default" loading={busy} onClick={passkey}>
              Make a passkey instead
            </Button>
          </Stack>
        )}
        {factor && !codes && (
          <form onSubmit={confirm}>
            <Stack mt="md">
              <Text>Scan this with your authenticator, or type the key. Then give the code that it shows.</Text>
              <img
                src={`data:image/svg+xml,${encodeURIComponent(factor.svg)}`}
                alt="The key for your authenticator, as a code to scan"
                width={220}
                height={220}
              />
              <Text size="sm" style={{ overflowWrap: 'anywhere' }}>
                Key: <code>{factor.secret}</code>
              </Text>
              <TextInput
                label="Code"
                inputMode="numeric"
                autoComplete="one-time-code"
                required
                value={code}
                onChange={(event) => setCode(event.currentTarget.value)}
              />
              <Button type="submit" loading={busy}>
                From now on, with a code
              </Button>
            </Stack>
          </form>
        )}
        <Trouble error={error} />
        {codes && (
          <>
            <RecoveryCodes codes={codes} />
            <a href="/me">I have kept them</a>
          </>
        )}
      </div>
    </main>
  );
}

/** Behind the link that went to a new address. */
export function AddressPage(): ReactNode {
  const [done, setDone] = useState(false);
  const { error, busy, run } = useTry();
  const prove = () => run(async () => call('POST', '/lintel/addresses/prove', { token: window.location.hash.slice(1) }).then(() => setDone(true)));
  return (
    <main className="page" style={{ maxWidth: '32rem' }}>
      <div className="sheet">
        <Title order={1}>{done ? 'This is your address now' : 'Is this your new address?'}</Title>
        {done ? (
          <Text mt="sm">
            Every device was signed out. <a href="/">Sign in with it</a>
          </Text>
        ) : (
          <Button mt="md" loading={busy} onClick={prove}>
            Yes, use it
          </Button>
        )}
        <Trouble error={error} />
      </div>
    </main>
  );
}

interface OnePasskey {
  id: string;
  label: string | null;
  madeAt: string;
  usedAt: string | null;
}

/** Each is two factors in one. The first is made behind the letter of the second factor. */
function Passkeys({ account, onDone }: { account: Account; onDone: () => void }): ReactNode {
  const { data, reload } = useLoad<Listed<OnePasskey>>('/lintel/account/passkeys');
  const { error, busy, run } = useTry();
  const done = () => {
    reload();
    onDone();
  };
  if (!account.hasFactor) return null;
  return (
    <Part title="Passkeys">
      <ul>
        {data?.items.map((one) => (
          <li key={one.id} style={{ marginBottom: '0.25rem' }}>
            {one.label ?? 'A passkey'}, made {dayAndTime(one.madeAt)}
            {one.usedAt && `, used ${dayAndTime(one.usedAt)}`}{' '}
            <Button
              size="compact-sm"
              variant="subtle"
              disabled={busy}
              onClick={() => run(async () => call('POST', '/lintel/account/passkeys/remove', { id: one.id }).then(done))}
            >
              Remove
            </Button>
          </li>
        ))}
      </ul>
      <Button variant="default" disabled={busy} onClick={() => run(async () => makePasskey().then(done))}>
        Make a passkey
      </Button>
      <Trouble error={error} />
    </Part>
  );
}

interface OneSession {
  id: string;
  label: string | null;
  startedAt: string;
  seenAt: string;
  isThis: boolean;
}

function Sessions(): ReactNode {
  const { data, reload } = useLoad<Listed<OneSession>>('/lintel/account/sessions');
  const { error, busy, run } = useTry();
  const end = (which: object) => run(async () => call('POST', '/lintel/account/sessions/end', which).then(reload));
  const others = data?.items.filter(({ isThis }) => !isThis).length ?? 0;
  return (
    <Part title="Where you are signed in">
      <div className="scroll">
        <Table aria-label="Where you are signed in">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Device</Table.Th>
              <Table.Th>Last used</Table.Th>
              <Table.Th aria-label="What can be done" />
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {data?.items.map((one) => (
              <Table.Tr key={one.id}>
                <Table.Td>{one.label ? deviceWords(one.label) : 'unknown'}</Table.Td>
                <Table.Td>{dayAndTime(one.seenAt)}</Table.Td>
                <Table.Td>
                  {one.isThis ? (
                    'this one'
                  ) : (
                    <Button size="compact-sm" variant="default" disabled={busy} onClick={() => end({ id: one.id })}>
                      Sign out there
                    </Button>
                  )}
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </div>
      {others > 0 && (
        <Button mt="xs" variant="default" disabled={busy} onClick={() => end({ others: true })}>
          Sign out everywhere else
        </Button>
      )}
      <Trouble error={error} />
    </Part>
  );
}

/** What a browser calls itself, short. */
function deviceWords(label: string): string {
  const browser = /(Firefox|Edg|Chrome|Safari)/.exec(label)?.[1]?.replace('Edg', 'Edge') ?? 'A browser';
  const system = /(Windows|Android|iPhone|iPad|Mac OS|Linux)/.exec(label)?.[1];
  return system ? `${browser}, ${system}` : browser;
}

function SignIns(): ReactNode {
  const { data } = useLoad<Listed<{ at: string; method: string; outcome: 'in' | 'refused'; place: string | null }>>('/lintel/account/sign-ins');
  const methods = (method: string) => (method === 'pwd' ? 'password' : method === 'hwk mfa' ? 'passkey' : 'password and second factor');
  return (
    <Part title="Sign-ins">
      <ul>
        {data?.items.slice(0, 8).map((one) => (
          <li key={one.at + one.outcome}>
            {dayAndTime(one.at)}: {one.outcome === 'in' ? `signed in by ${methods(one.method)}` : 'refused'}
            {one.place && <span className="quiet"> from {one.place}</span>}
          </li>
        ))}
      </ul>
    </Part>
  );
}

function Organisations({ me, onDone }: { me: MeAnswer; onDone: () => void }): ReactNode {
  const [leaving, setLeaving] = useState<string>();
  const { error, busy, run } = useTry();
  const leave = (id: string) => run(async () => call('POST', `/lintel/tenants/${id}/changes`, { steps: [{ do: 'leave' }] }).then(onDone));
  return (
    <Part title="My organisations">
      <ul>
        {me.tenants.map((tenant) => (
          <li key={tenant.id} style={{ marginBottom: '0.25rem' }}>
            <Link href={`/t/${tenant.id}`}>{tenant.name}</Link>{' '}
            {leaving === tenant.id ? (
              <Button size="compact-sm" color="red" loading={busy} onClick={() => leave(tenant.id)}>
                Yes, leave {tenant.name}
              </Button>
            ) : (
              <Button size="compact-sm" variant="subtle" aria-label={`Leave ${tenant.name}`} onClick={() => setLeaving(tenant.id)}>
                Leave
              </Button>
            )}
          </li>
        ))}
      </ul>
      <Trouble error={error} />
    </Part>
  );
}
