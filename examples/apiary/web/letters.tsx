import { Alert, Button, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useState } from 'react';
import { Link, useLocation } from 'wouter';
import { call, type MeAnswer } from './api.js';
import { Trouble, useTry } from './trouble.js';

/** The secret stands after the # of the address: it is in no request line, no log and no referrer. */
const tokenOf = () => window.location.hash.slice(1);

/** What is said to whoever asks for a letter, whether or not there is an account. */
export function LookAtMail({ me, address }: { me: MeAnswer; address: string }): ReactNode {
  return (
    <Alert color="honey" role="status">
      A message is on its way to {address}. Go on from there; you can close this page. {me.tray && <Link href="/mail">Open the mail tray</Link>}
    </Alert>
  );
}

function Sheet({ title, onSubmit, children }: { title: string; onSubmit: () => void; children: ReactNode }): ReactNode {
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onSubmit();
  };
  return (
    <main className="page" style={{ maxWidth: '32rem' }}>
      <form onSubmit={submit} className="sheet">
        <Stack>
          <Title order={1}>{title}</Title>
          {children}
        </Stack>
      </form>
    </main>
  );
}

function NewPassword({ value, onChange }: { value: string; onChange: (value: string) => void }): ReactNode {
  return (
    <PasswordInput
      label="Choose a password"
      description="At least 15 characters. Several words are easy to remember."
      value={value}
      onChange={(event) => onChange(event.currentTarget.value)}
      required
      autoComplete="new-password"
      visibilityToggleButtonProps={{ 'aria-label': 'Show or hide the password' }}
    />
  );
}

/** Behind the link of a sign-up: the account is made here. */
export function ActivatePage({ reload }: { reload: () => void }): ReactNode {
  const [, go] = useLocation();
  const [form, setForm] = useState({ name: '', password: '', tenantName: '' });
  const { error, busy, run } = useTry();
  const make = () =>
    run(async () => {
      const { tenantId } = await call<{ tenantId: string }>('POST', '/lintel/account/activate', { ...form, token: tokenOf() });
      reload();
      go(`/t/${tenantId}`);
    });
  const field = (name: 'name' | 'tenantName') => ({
    value: form[name],
    onChange: (event: FormEvent<HTMLInputElement>) => setForm({ ...form, [name]: event.currentTarget.value }),
    required: true,
  });
  return (
    <Sheet title="Open your own apiary" onSubmit={make}>
      <TextInput label="Your name" autoComplete="name" {...field('name')} />
      <NewPassword value={form.password} onChange={(password) => setForm({ ...form, password })} />
      <TextInput label="Name of your association" {...field('tenantName')} />
      <Button type="submit" loading={busy}>
        Make my account
      </Button>
      <Trouble error={error} />
    </Sheet>
  );
}

export function ForgottenPage({ me }: { me: MeAnswer }): ReactNode {
  const [address, setAddress] = useState('');
  const [asked, setAsked] = useState(false);
  const { error, busy, run } = useTry();
  const ask = () => run(async () => call('POST', '/lintel/account/forgotten', { address }).then(() => setAsked(true)));
  return (
    <Sheet title="Forgotten password" onSubmit={ask}>
      <TextInput
        label="E-mail address"
        type="email"
        autoComplete="email"
        required
        value={address}
        onChange={(event) => setAddress(event.currentTarget.value)}
      />
      <Button type="submit" loading={busy}>
        Send me a link
      </Button>
      <Trouble error={error} />
      {asked && <LookAtMail me={me} address={address} />}
      <Text size="sm">
        <Link href="/">Back to signing in</Link>
      </Text>
    </Sheet>
  );
}

/** Behind the link that goes to whoever has forgotten their password. */
export function RecoverPage(): ReactNode {
  const [password, setPassword] = useState('');
  const [done, setDone] = useState(false);
  const { error, busy, run } = useTry();
  const set = () => run(async () => call('POST', '/lintel/account/recover', { token: tokenOf(), password }).then(() => setDone(true)));
  if (done)
    return (
      <main className="page" style={{ maxWidth: '32rem' }}>
        <div className="sheet">
          <Title order={1}>Your password is changed</Title>
          <Text mt="sm">Every device was signed out.</Text>
          <Text mt="sm">
            <a href="/">Sign in</a>
          </Text>
        </div>
      </main>
    );
  return (
    <Sheet title="Choose a new password" onSubmit={set}>
      <NewPassword value={password} onChange={setPassword} />
      <Button type="submit" loading={busy}>
        Change my password
      </Button>
      <Trouble error={error} />
    </Sheet>
  );
}
