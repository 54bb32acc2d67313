import { Alert, Button, Group, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useEffect, useState } from 'react';
import { Refusal } from 'warm-lintel/client';
import { useLocation } from 'wouter';
import { call, client, type MeAnswer } from './api.js';
import { Trouble, useTry } from './trouble.js';

interface View {
  tenantName: string;
  invitedBy: string;
  address: string;
  name: string | null;
  roles: string[];
  hasAccount: boolean;
}

/** The secret stands after the # of the address: it is in no request line, no log and no referrer, and following the link changes nothing. */
const tokenOf = () => window.location.hash.slice(1);

export function InvitationPage({ me, reload }: { me: MeAnswer; reload: () => void }): ReactNode {
  const [, go] = useLocation();
  const [view, setView] = useState<View>();
  const [refusal, setRefusal] = useState<Refusal>();
  const { error, busy, run } = useTry();
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const token = tokenOf();
  useEffect(() => {
    call<View>('POST', '/api/invitation/look', { token }).then(
      (found) => {
        setView(found);
        setName(found.name ?? '');
      },
      (reason: unknown) => reason instanceof Refusal && setRefusal(reason),
    );
  }, [token]);
  if (refusal) {
    return (
      <main className="page">
        <Title order={1}>Invitation</Title>
        <Alert color="honey" mt="md" role="alert">
          {refusal.message}
        </Alert>
        <Text mt="md">
          <a href="/">Go to the start</a>
        </Text>
      </main>
    );
  }
  if (!view) return null;
  const enter = ({ tenantId }: { tenantId: string }) => {
    sessionStorage.setItem('welcome', tenantId);
    reload();
    go(`/t/${tenantId}`);
  };
  const accept = () => run(async () => enter(await call('POST', '/api/invitation/accept', { token })));
  const join = (event: FormEvent) => {
    event.preventDefault();
    run(async () => enter(await client.joinByInvitation({ name, password, invitation: token })));
  };
  const signIn = (event: FormEvent) => {
    event.preventDefault();
    run(async () => {
      await client.signIn({ address: view.address, password });
      enter(await call('POST', '/api/invitation/accept', { token }));
    });
  };
  const decline = () =>
    run(async () => call('POST', '/api/invitation/decline', { token }).then(() => setRefusal(new Refusal(410, 'You have declined this invitation.', ''))));
  const other = me.user !== null && me.user.address.toLowerCase() !== view.address.toLowerCase();
  return (
    <main className="page" style={{ maxWidth: '36rem' }}>
      <div className="sheet">
        <Title order={1}>{view.tenantName}</Title>
        <Text mt="xs">
          {view.invitedBy} invites <strong>{view.address}</strong>
          {view.roles.length > 0 ? ` as ${view.roles.join(', ')}.` : '.'}
        </Text>
        {me.user && !other && (
          <Button mt="md" loading={busy} onClick={accept}>
            Accept as {me.user.name}
          </Button>
        )}
        {other && (
          <Alert color="honey" mt="md" role="alert">
            You are signed in as {me.user?.address}. This invitation is for another address: sign out to accept it there, or ask {view.invitedBy} to invite this
            one.
            <Button mt="sm" size="compact-sm" variant="default" onClick={() => run(async () => client.signOut({}).then(reload))}>
              Sign out and go on
            </Button>
          </Alert>
        )}
        {!me.user && (
          <form onSubmit={view.hasAccount ? signIn : join}>
            <Stack mt="md">
              {!view.hasAccount && (
                <TextInput label="Your name" value={name} required autoComplete="name" onChange={(event) => setName(event.currentTarget.value)} />
              )}
              <PasswordInput
                label={view.hasAccount ? 'Your password' : 'Choose a password'}
                value={password}
                required
                autoComplete={view.hasAccount ? 'current-password' : 'new-password'}
                visibilityToggleButtonProps={{ 'aria-label': 'Show or hide the password' }}
                onChange={(event) => setPassword(event.currentTarget.value)}
              />
              <Button type="submit" loading={busy}>
                {view.hasAccount ? 'Sign in and accept' : 'Make an account and accept'}
              </Button>
            </Stack>
          </form>
        )}
        <Trouble error={error} />
        <Group mt="md">
          <Button variant="subtle" size="compact-sm" onClick={decline}>
            Decline
          </Button>
        </Group>
      </div>
    </main>
  );
}
