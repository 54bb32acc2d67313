import { Alert, Button, Group, PasswordInput, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useState } from 'react';
import { Refusal } from 'warm-lintel/client';
import { type Doing, useAccount, useProof } from 'warm-lintel/react';
import { Link } from 'wouter';
import { client } from './api.js';

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

/** Runs something that may be refused, and keeps what the server said. */
export function useTry(): Doing & { run: (work: () => Promise<void>) => void } {
  const [error, setError] = useState<Doing['error']>();
  const [busy, setBusy] = useState(false);
  const run = (work: () => Promise<void>) => {
    setBusy(true);
    setError(undefined);
    work()
      .catch((reason: unknown) => {
        const refusal = reason instanceof Refusal ? reason : new Refusal(0, 'no-answer', 'Something went wrong. Try again.');
        setError(Object.assign(refusal, { again: () => run(work) }));
      })
      .finally(() => setBusy(false));
  };
  return { error, busy, run };
}

/** Shows what went wrong, in the server's words. */
export function Trouble({ error }: { error: Doing['error'] }): ReactNode {
  if (!error) return null;
  if (error.status === 404) return <NotFound />;
  if (['obligation-open', 'prove-first'].includes(error.code) && error.again)
    return <First obligation={error.obligation ?? 'recentSignIn'} why={error.message} onDone={error.again} />;
  return (
    <Alert color="red" variant="light" role="alert" mt="sm">
      {error.message}
    </Alert>
  );
}

/** What has to be done first, in the middle of what one was doing; then one goes on with it. */
export function First(props: { obligation: string; why: string; onDone: () => void }): ReactNode {
  const { obligation, why, onDone } = props;
  const { account } = useAccount();
  if (!account) return null;
  if (obligation === 'acceptTerms') return <Terms why={why} version={account.terms} onDone={onDone} />;
  if (obligation.startsWith('choosePassword'))
    return (
      <Alert color="honey" role="alert" mt="sm" title="Choose a new password">
        {why} <Link href="/me">To my account</Link>
      </Alert>
    );
  if (obligation === 'secondFactor' && !account.hasFactor)
    return (
      <Alert color="honey" role="alert" mt="sm" title="Add a second factor">
        {why} <Link href={account.keptBy ? '/factor' : '/me'}>Add one</Link>
      </Alert>
    );
  // Who came by a provider shows it there, and comes back here.
  const [tenant] = account.enters ?? [];
  if (account.connection !== undefined && tenant !== undefined)
    return (
      <Alert color="honey" role="alert" mt="sm" title="Show again who you are">
        {why} <a href={`/sign-on/${tenant}/${account.connection}?again&back=${encodeURIComponent(window.location.pathname)}`}>Do so where you signed in</a>
      </Alert>
    );
  return <ProveAgain why={why} onProven={onDone} />;
}

function Terms({ why, version, onDone }: { why: string; version: string | undefined; onDone: () => void }): ReactNode {
  const { error, busy, run } = useTry();
  const accept = () => run(async () => client.acceptTerms({ version: version ?? '' }).then(onDone));
  return (
    <Alert color="honey" role="alert" mt="sm" title="The terms">
      <Text size="sm">{why}</Text>
      <Text size="sm" mt="xs">
        Version {version}: what an association writes down here stays its own, and nobody reads along.
      </Text>
      <Button mt="xs" loading={busy} onClick={accept}>
        I accept version {version}
      </Button>
      <Trouble error={error} />
    </Alert>
  );
}

/** Shows again who one is, without signing out. */
function ProveAgain({ why, onProven }: { why: string; onProven: () => void }): ReactNode {
  const [secret, setSecret] = useState('');
  const proof = useProof(onProven);
  if (!proof.by) return null;
  const prove = (event: FormEvent) => {
    event.preventDefault();
    event.stopPropagation();
    void proof.prove(secret);
  };
  const field = { value: secret, required: true, onChange: (event: FormEvent<HTMLInputElement>) => setSecret(event.currentTarget.value) };
  return (
    <Alert color="honey" role="alert" mt="sm" title="Show again who you are">
      <Text size="sm">{why}</Text>
      <form onSubmit={prove}>
        <Group align="flex-end" mt="xs">
          {proof.by === 'code' ? (
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
          <Button type="submit" loading={proof.busy}>
            Go on
          </Button>
          <Button variant="default" disabled={proof.busy} onClick={proof.byPasskey}>
            With a passkey
          </Button>
        </Group>
        {proof.error && (
          <Text c="red" size="sm" role="alert">
            {proof.error.message}
          </Text>
        )}
      </form>
    </Alert>
  );
}
