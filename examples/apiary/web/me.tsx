import { Button, Group, PasswordInput, Stack, Table, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useEffect, useState } from 'react';
import { useAccount, useList, useMyFactors, useMySessions } from 'warm-lintel/react';
import { Link } from 'wouter';
import { type Account, client, type MeAnswer } from './api.js';
import { LookAtMail } from './letters.js';
import { Trouble, useTry } from './trouble.js';

const dayAndTime = (moment: string) => moment.slice(0, 16).replace('T', ' ');

/** Everything of one's own: name, password, second factor, where one is signed in, organisations. */
export function MePage({ me, reload }: { me: MeAnswer; reload: () => void }): ReactNode {
  const { account, reload: look } = useAccount();
  if (!account) return null;
  const again = () => {
    look();
    reload();
  };
  return (
    <main className="page" style={{ maxWidth: '46rem' }}>
      <Group justify="space-between">
        <Title order={1}>{account.name}</Title>
        <Link href="/">To my organisations</Link>
      </Group>
      <Stack mt="md" gap="md">
        {account.keptBy ? <Kept account={account} me={me} /> : <Who account={account} me={me} onDone={again} />}
        <Password />
        <Factors account={account} me={me} onDone={again} />
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
      if (name !== account.name) await client.rename({ name });
      if (address !== account.address) {
        await client.changeAddress({ address });
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

/** What an account is whose name and address the association says that made it. */
function Kept({ account, me }: { account: Account; me: MeAnswer }): ReactNode {
  const [tenant] = me.tenants;
  return (
    <Part title="Name and address">
      <Text>
        {account.name}, {account.address}
      </Text>
      <Text size="sm" className="quiet">
        {tenant?.name ?? 'An association'} has made this account and says what stands here; it enters no other. If you forget your password, ask there for a new
        way in.
      </Text>
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
      await client.changePassword(form);
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

/** The second factor, and the passkeys beside it: what changes one may ask first who one is. */
function Factors({ account, me, onDone }: { account: Account; me: MeAnswer; onDone: () => void }): ReactNode {
  const factors = useMyFactors();
  const { busy, error, recoveryCodes } = factors;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the account is another once its codes are
  useEffect(onDone, [recoveryCodes, factors.passkeys?.length]);
  return (
    <>
      <Part title="Second factor">
        <Text size="sm" className="quiet" mb="xs">
          {account.hasFactor
            ? 'Signing in takes a code of your authenticator besides the password.'
            : 'With a second factor, whoever knows your password cannot sign in without your telephone.'}
        </Text>
        <Group>
          {account.hasFactor && (
            <>
              <Button variant="default" loading={busy} onClick={factors.newRecoveryCodes}>
                New recovery codes
              </Button>
              <Button variant="default" loading={busy} onClick={() => factors.removeAuthenticator().then(onDone)}>
                Remove the second factor
              </Button>
            </>
          )}
          {!account.hasFactor && account.keptBy && <Link href="/factor">Add a second factor</Link>}
          {!account.hasFactor && !account.keptBy && (
            <Button variant="default" loading={busy} onClick={factors.askForLetter}>
              Add a second factor
            </Button>
          )}
        </Group>
        <Trouble error={error} />
        {factors.asked && !account.hasFactor && <LookAtMail me={me} address={account.address} />}
        {recoveryCodes && <RecoveryCodes codes={recoveryCodes} />}
      </Part>
      {account.hasFactor && (
        <Part title="Passkeys">
          <ul>
            {factors.passkeys?.map((one) => (
              <li key={one.id} style={{ marginBottom: '0.25rem' }}>
                {one.label ?? 'A passkey'}, made {dayAndTime(one.madeAt)}
                {one.usedAt && `, used ${dayAndTime(one.usedAt)}`}{' '}
                <Button size="compact-sm" variant="subtle" disabled={busy} onClick={() => factors.removePasskey(one.id)}>
                  Remove
                </Button>
              </li>
            ))}
          </ul>
          <Button variant="default" disabled={busy} onClick={() => factors.addPasskey(navigator.platform)}>
            Make a passkey
          </Button>
        </Part>
      )}
    </>
  );
}

/** Behind the link of the letter: the picture to be scanned, and the first code. An account that an association keeps takes no letter. */
export function FactorPage(): ReactNode {
  const [code, setCode] = useState('');
  const { authenticator, recoveryCodes: codes, busy, error, ...factors } = useMyFactors();
  const [link] = useState(() => window.location.hash.slice(1) || undefined);
  const confirm = (event: FormEvent) => {
    event.preventDefault();
    void factors.confirmAuthenticator(code);
  };
  return (
    <main className="page" style={{ maxWidth: '32rem' }}>
      <div className="sheet">
        <Title order={1}>{codes ? 'Your second factor counts' : 'Add a second factor'}</Title>
        {!authenticator && !codes && (
          <Stack mt="md">
            <Text>You need an authenticator: a program on your telephone that makes codes.</Text>
            <Button loading={busy} onClick={() => factors.beginAuthenticator(link)}>
              Show me the picture
            </Button>
            <Text>Or let this device show who you are, by your finger, face or its code.</Text>
            <Button variant="default" loading={busy} onClick={() => factors.addPasskey(navigator.platform, link)}>
              Make a passkey instead
            </Button>
          </Stack>
        )}
        {authenticator && !codes && (
          <form onSubmit={confirm}>
            <Stack mt="md">
              <Text>Scan this with your authenticator, or type the key. Then give the code that it shows.</Text>
              <img
                src={`data:image/svg+xml,${encodeURIComponent(authenticator.svg)}`}
                alt="The key for your authenticator, as a code to scan"
                width={220}
                height={220}
              />
              <Text size="sm" style={{ overflowWrap: 'anywhere' }}>
                Key: <code>{authenticator.secret}</code>
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
  const prove = () => run(async () => client.proveAddress({ token: window.location.hash.slice(1) }).then(() => setDone(true)));
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

function Sessions(): ReactNode {
  const { sessions, error, busy, end, endOthers } = useMySessions();
  const others = sessions?.filter(({ isThis }) => !isThis).length ?? 0;
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
            {sessions?.map((one) => (
              <Table.Tr key={one.id}>
                <Table.Td>{one.label ? deviceWords(one.label) : 'unknown'}</Table.Td>
                <Table.Td>{dayAndTime(one.seenAt)}</Table.Td>
                <Table.Td>
                  {one.isThis ? (
                    'this one'
                  ) : (
                    <Button size="compact-sm" variant="default" disabled={busy} onClick={() => end(one.id)}>
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
        <Button mt="xs" variant="default" disabled={busy} onClick={endOthers}>
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
  const { items } = useList(client.mySignIns);
  const methods = (method: string) => (method === 'pwd' ? 'password' : method === 'hwk mfa' ? 'passkey' : 'password and second factor');
  return (
    <Part title="Sign-ins">
      <ul>
        {items?.slice(0, 8).map((one) => (
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
  const leave = (id: string) => run(async () => client.change({ tenant: id, steps: [{ do: 'leave' }] }).then(onDone));
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
