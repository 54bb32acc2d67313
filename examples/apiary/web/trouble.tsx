import { Alert, Button, Group, PasswordInput, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useState } from 'react';
import { call, Refusal, useLoad } from './api.js';
import { askPasskey } from './passkeys.js';

export function NotFound(): ReactNode {
  return (
    <main className="page">
      <Title order={1}>There is no such page</Title>
      <Text mt="sm">
        The address may be wrong, or what was here is not there for you. <a href="/">Go to the start</a>
      </Text>
    </main>
  );
}

/** A refusal, and what does the same once more. */
export interface Refused extends Refusal {
  again?: () => void;
}

/** Runs something that may be refused, and keeps what the server said. */
export function useTry(): { error: Refused | undefined; busy: boolean; run: (work: () => Promise<void>) => void } {
  const [error, setError] = useState<Refused>();
  const [busy, setBusy] = useState(false);
  const run = (work: () => Promise<void>) => {
    setBusy(true);
    setError(undefined);
    work()
      .catch((reason: unknown) => {
        const refusal = reason instanceof Refusal ? reason : new Refusal(0, 'Something went wrong. Try again.', '');
        setError(Object.assign(refusal, { again: () => run(work) }));
      })
      .finally(() => setBusy(false));
  };
  return { error, busy, run };
}

/** What has to be done first: somebody shows again who they are, and goes on. */
const FIRST = ['obligation-open', 'prove-first'];

/** Shows what went wrong, in the server's words. */
export function Trouble({ error }: { error: Refused | undefined }): ReactNode {
  if (!error) return null;
  if (error.status === 404) return <NotFound />;
  if (FIRST.includes(error.code) && error.again) return <ProveAgain why={error.message} onProven={error.again} />;
  return (
    <Alert color="red" variant="light" role="alert" mt="sm">
      {error.message}
    </Alert>
  );
}

export interface Account {
  userId: string;
  name: string;
  address: string;
  sessionId: string;
  hasFactor: boolean;
}

/** Shows again who one is, in the middle of what one was doing, and then goes on with it. */
function ProveAgain({ why, onProven }: { why: string; onProven: () => void }): ReactNode {
  const { data } = useLoad<{ account: Account | null }>('/lintel/account');
  const [secret, setSecret] = useState('');
  const { error, busy, run } = useTry();
  if (!data?.account) return null;
  const { hasFactor } = data.account;
  const prove = (event: FormEvent) => {
    event.preventDefault();
    event.stopPropagation();
    run(async () => {
      await call('POST', '/lintel/account/prove', hasFactor ? { code: secret } : { password: secret });
      onProven();
    });
  };
  const byPasskey = () => run(async () => call('POST', '/lintel/account/prove', { passkey: await askPasskey() }).then(onProven));
  const field = { value: secret, required: true, onChange: (event: FormEvent<HTMLInputElement>) => setSecret(event.currentTarget.value) };
  return (
    <Alert color="honey" role="alert" mt="sm" title="Show again who you are">
      <Text size="sm">{why}</Text>
      <form onSubmit={prove}>
        <Group align="flex-end" mt="xs">
          {hasFactor ? (
            <TextInput label="Code of your authenticator" inputMode="numeric" autoComplete="one-time-code" {...field} />
          ) : (
            <PasswordInput
              label="Your password"
              autoComplete="current-password"
              style={{ flex: '1 1 14rem' }}
              visibilityToggleButtonProps={{ 'aria-label': 'Show or hide the password' }}
              {...field}
            />
          )}
          <Button type="submit" loading={busy}>
            Go on
          </Button>
          <Button variant="default" disabled={busy} onClick={byPasskey}>
            With a passkey
          </Button>
        </Group>
        {error && (
          <Text c="red" size="sm" role="alert">
            {error.message}
          </Text>
        )}
      </form>
    </Alert>
  );
}
