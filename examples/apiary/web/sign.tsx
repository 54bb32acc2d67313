import { Button, Group, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useEffect, useState } from 'react';
import { useSignIn } from 'warm-lintel/react';
import { Link } from 'wouter';
import { client, type MeAnswer } from './api.js';
import { Trouble } from './trouble.js';

/** Signing in; at the page of an association also with an account that it keeps. */
export function SignInPage({ me, reload, tenant }: { me: MeAnswer; reload: () => void; tenant?: string }): ReactNode {
  const [form, setForm] = useState({ address: '', password: '' });
  const [written, setWritten] = useState('');
  const signing = useSignIn(reload, tenant);
  const field = (name: keyof typeof form) => ({
    value: form[name],
    onChange: (event: FormEvent<HTMLInputElement>) => setForm({ ...form, [name]: event.currentTarget.value }),
    required: true,
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    void signing.signIn(form.address, form.password);
  };
  if (signing.next) return <CodePage signing={signing} />;
  return (
    <main className="page">
      <Group align="flex-start" gap="xl" wrap="wrap">
        <form onSubmit={submit} className="sheet" style={{ flex: '1 1 20rem' }}>
          <Stack>
            <Title order={1}>Sign in</Title>
            <TextInput label="E-mail address" type="email" autoComplete="email" {...field('address')} onBlur={() => setWritten(form.address)} />
            <PasswordInput
              label="Password"
              autoComplete="current-password"
              visibilityToggleButtonProps={{ 'aria-label': 'Show or hide the password' }}
              {...field('password')}
            />
            <Button type="submit" loading={signing.busy}>
              Sign in
            </Button>
            <Button variant="default" disabled={signing.busy} onClick={signing.byPasskey}>
              Sign in with a passkey
            </Button>
            <WaysIn tenant={tenant} address={written} />
            <Trouble error={signing.error} />
            <Text size="sm">
              <Link href="/forgotten">I have forgotten my password</Link>
            </Text>
            <Text size="sm">
              <Link href="/sign-up">Open an association of your own</Link>
            </Text>
          </Stack>
        </form>
        {me.demo && (
          <section className="sheet" style={{ flex: '1 1 24rem' }} aria-label="People of the demo">
            <Title order={2} size="h4">
              People of the demo
            </Title>
            <Text size="sm" className="quiet" mb="xs">
              All made up. One click enters as them; everybody’s password is <code>{me.demo.password}</code>
            </Text>
            {me.demo.people.map((person) => (
              <div key={person.address}>
                <Button variant="subtle" size="compact-sm" disabled={signing.busy} onClick={() => signing.signIn(person.address, me.demo?.password ?? '')}>
                  {person.name}
                </Button>
                <Text span size="sm" className="quiet">
                  {person.note}
                </Text>
              </div>
            ))}
          </section>
        )}
      </Group>
    </main>
  );
}

interface WayIn {
  id: string;
  name: string;
  path: string;
  tenantId?: string;
}

/** The association's own providers; at the page of no association the one to which people of such an address are sent. */
function WaysIn({ tenant, address }: { tenant: string | undefined; address: string }): ReactNode {
  const [ways, setWays] = useState<WayIn[]>([]);
  useEffect(() => {
    if (tenant === undefined && !address.includes('@')) return setWays([]);
    const asked =
      tenant === undefined ? client.wayFor({ address }).then(({ way }) => (way ? [way] : [])) : client.waysInto({ tenant }).then(({ items }) => items);
    void asked.then(setWays, () => undefined);
  }, [tenant, address]);
  return ways.map(({ id, name, path, tenantId = tenant }) => (
    <Button key={id} component="a" variant="default" href={`${path}?back=${encodeURIComponent(`/t/${tenantId}`)}`}>
      Go to {name}
    </Button>
  ));
}

/** The password was right; the second factor is still to come. */
function CodePage({ signing }: { signing: ReturnType<typeof useSignIn> }): ReactNode {
  const { next: by = [], busy, error } = signing;
  const [secret, setSecret] = useState('');
  const [isRecovery, setRecovery] = useState(!by.includes('code'));
  const give = (event: FormEvent) => {
    event.preventDefault();
    void (isRecovery ? signing.giveRecoveryCode(secret) : signing.giveCode(secret));
  };
  return (
    <main className="page" style={{ maxWidth: '32rem' }}>
      <form onSubmit={give} className="sheet">
        <Stack>
          <Title order={1}>Second factor</Title>
          {by.includes('passkey') && (
            <Button loading={busy} onClick={signing.byPasskey}>
              Use a passkey
            </Button>
          )}
          <TextInput
            label={isRecovery ? 'Recovery code' : 'Code of your authenticator'}
            inputMode={isRecovery ? 'text' : 'numeric'}
            autoComplete="one-time-code"
            required
            value={secret}
            onChange={(event) => setSecret(event.currentTarget.value)}
          />
          <Button type="submit" loading={busy}>
            Sign in
          </Button>
          <Trouble error={error} />
          {by.includes('code') && (
            <Button variant="subtle" size="compact-sm" onClick={() => setRecovery(!isRecovery)}>
              {isRecovery ? 'I have my authenticator' : 'Use a recovery code'}
            </Button>
          )}
        </Stack>
      </form>
    </main>
  );
}
