import { Button, Group, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useState } from 'react';
import { Link } from 'wouter';
import { call, type MeAnswer } from './api.js';
import { LookAtMail } from './letters.js';
import { askPasskey } from './passkeys.js';
import { Trouble, useTry } from './trouble.js';

/** Signing in; and asking for an account, which begins with a letter to the address. */
export function SignPage({ me, reload, start }: { me: MeAnswer; reload: () => void; start: 'sign-in' | 'sign-up' }): ReactNode {
  const [form, setForm] = useState({ address: '', password: '' });
  const [asked, setAsked] = useState(false);
  const [by, setBy] = useState<string[]>();
  const { error, busy, run } = useTry();
  const field = (name: keyof typeof form) => ({
    value: form[name],
    onChange: (event: FormEvent<HTMLInputElement>) => setForm({ ...form, [name]: event.currentTarget.value }),
    required: true,
  });
  const signingUp = start === 'sign-up';
  const enter = (as: Partial<typeof form>) =>
    run(async () => {
      const half = await call<{ by?: string[] }>('POST', `/lintel/account/${start}`, signingUp ? { address: as.address } : as);
      if (signingUp) setAsked(true);
      else if (half.by) setBy(half.by);
      else reload();
    });
  const byPasskey = () => run(async () => call('POST', '/lintel/account/passkeys/sign-in', { passkey: await askPasskey() }).then(reload));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    enter(form);
  };
  if (by) return <CodePage by={by} reload={reload} />;
  return (
    <main className="page">
      <Group align="flex-start" gap="xl" wrap="wrap">
        <form onSubmit={submit} className="sheet" style={{ flex: '1 1 20rem' }}>
          <Stack>
            <Title order={1}>{signingUp ? 'Open your own apiary' : 'Sign in'}</Title>
            <TextInput label="E-mail address" type="email" autoComplete="email" {...field('address')} />
            {!signingUp && (
              <PasswordInput
                label="Password"
                autoComplete="current-password"
                visibilityToggleButtonProps={{ 'aria-label': 'Show or hide the password' }}
                {...field('password')}
              />
            )}
            <Button type="submit" loading={busy}>
              {signingUp ? 'Sign up' : 'Sign in'}
            </Button>
            {!signingUp && (
              <Button variant="default" disabled={busy} onClick={byPasskey}>
                Sign in with a passkey
              </Button>
            )}
            <Trouble error={error} />
            {asked && <LookAtMail me={me} address={form.address} />}
            {!signingUp && (
              <Text size="sm">
                <Link href="/forgotten">I have forgotten my password</Link>
              </Text>
            )}
            <Text size="sm">{signingUp ? <Link href="/">I have an account</Link> : <Link href="/sign-up">Open an association of your own</Link>}</Text>
          </Stack>
        </form>
        {me.demo && !signingUp && (
          <section className="sheet" style={{ flex: '1 1 24rem' }} aria-label="People of the demo">
            <Title order={2} size="h4">
              People of the demo
            </Title>
            <Text size="sm" className="quiet" mb="xs">
              All made up. One click enters as them; everybody’s password is <code>{me.demo.password}</code>
            </Text>
            {me.demo.people.map((person) => (
              <div key={person.address}>
                <Button
                  variant="subtle"
                  size="compact-sm"
                  disabled={busy}
                  onClick={() => enter({ address: person.address, password: me.demo?.password ?? '' })}
                >
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

/** The password was right; the second factor is still to come. */
function CodePage({ by, reload }: { by: readonly string[]; reload: () => void }): ReactNode {
  const [secret, setSecret] = useState('');
  const [isRecovery, setRecovery] = useState(!by.includes('code'));
  const byPasskey = () => run(async () => call('POST', '/lintel/account/code', { passkey: await askPasskey() }).then(reload));
  const { error, busy, run } = useTry();
  const give = (event: FormEvent) => {
    event.preventDefault();
    run(async () => call('POST', '/lintel/account/code', isRecovery ? { recoveryCode: secret } : { code: secret }).then(reload));
  };
  return (
    <main className="page" style={{ maxWidth: '32rem' }}>
      <form onSubmit={give} className="sheet">
        <Stack>
          <Title order={1}>Second factor</Title>
          {by.includes('passkey') && (
            <Button loading={busy} onClick={byPasskey}>
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
