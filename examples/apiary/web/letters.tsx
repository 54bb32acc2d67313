import { Alert, Button, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useEffect, useState } from 'react';
import { useAccount, useLetter } from 'warm-lintel/react';
import { Link, useLocation } from 'wouter';
import { type Account, client, type MeAnswer } from './api.js';
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
      const { tenantId } = await client.activate({ ...form, token: tokenOf() });
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

/** Asking for a letter by an address; what is answered is the same whether or not there is an account. */
function LetterPage(props: { me: MeAnswer; what: 'sign-up' | 'forgotten'; title: string; action: string; back: string }): ReactNode {
  const { me, what, title, action, back } = props;
  const [address, setAddress] = useState('');
  const { askFor, asked, error, busy } = useLetter(what);
  return (
    <Sheet title={title} onSubmit={() => askFor(address)}>
      <TextInput
        label="E-mail address"
        type="email"
        autoComplete="email"
        required
        value={address}
        onChange={(event) => setAddress(event.currentTarget.value)}
      />
      <Button type="submit" loading={busy}>
        {action}
      </Button>
      <Trouble error={error} />
      {asked && <LookAtMail me={me} address={asked} />}
      <Text size="sm">
        <Link href="/">{back}</Link>
      </Text>
    </Sheet>
  );
}

export const SignUpPage = ({ me }: { me: MeAnswer }): ReactNode => (
  <LetterPage me={me} what="sign-up" title="Open your own apiary" action="Sign up" back="I have an account" />
);

export const ForgottenPage = ({ me }: { me: MeAnswer }): ReactNode => (
  <LetterPage me={me} what="forgotten" title="Forgotten password" action="Send me a link" back="Back to signing in" />
);

/** Behind the link that goes to whoever has forgotten their password. */
export function RecoverPage(): ReactNode {
  const [password, setPassword] = useState('');
  const [done, setDone] = useState(false);
  const { error, busy, run } = useTry();
  const set = () => run(async () => client.recover({ token: tokenOf(), password }).then(() => setDone(true)));
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

interface Way {
  tenantId: string;
  tenantName: string;
  name: string;
  address: string;
  again: boolean;
}

/** What somebody opens who was enrolled: they choose a password for the account that was made for them, or come with an account of their own. */
export function EnrolledPage({ reload }: { reload: () => void }): ReactNode {
  const [way, setWay] = useState<Way>();
  const [password, setPassword] = useState('');
  const [own, setOwn] = useState(false);
  const looking = useTry();
  const choosing = useTry();
  const { account } = useAccount();
  const [activation] = useState(tokenOf);
  // biome-ignore lint/correctness/useExhaustiveDependencies: it is looked at once
  useEffect(() => looking.run(async () => setWay(await client.lookAtActivation({ activation }))), [activation]);
  if (looking.error)
    return (
      <Sheet title="You were enrolled" onSubmit={() => {}}>
        <Alert color="honey" role="alert">
          {looking.error.message}
        </Alert>
      </Sheet>
    );
  if (!way) return null;
  const enter = ({ tenantId }: { tenantId: string }) => {
    reload();
    window.location.assign(`/t/${tenantId}`);
  };
  const choose = () => choosing.run(async () => enter(await client.choosePassword({ activation, password })));
  const take = () => choosing.run(async () => enter(await client.takePlace({ activation })));
  return (
    <Sheet title={way.again ? `A new password at ${way.tenantName}` : `Welcome to ${way.tenantName}`} onSubmit={own ? take : choose}>
      <Text>
        {way.tenantName} {way.again ? 'knows you' : 'has made an account for you'}: {way.name}, {way.address}.
      </Text>
      {own ? (
        <OwnAccount account={account} busy={choosing.busy} way={way} />
      ) : (
        <>
          <NewPassword value={password} onChange={setPassword} />
          <Text size="sm" className="quiet">
            With this account you come into {way.tenantName} and nowhere else: sign in at <code>{`${window.location.origin}/t/${way.tenantId}`}</code>
          </Text>
          <Button type="submit" loading={choosing.busy}>
            Choose this password
          </Button>
        </>
      )}
      <Trouble error={choosing.error} />
      {!way.again && (
        <Button variant="subtle" size="compact-sm" onClick={() => setOwn(!own)}>
          {own ? 'Choose a password instead' : 'I have an account of my own here'}
        </Button>
      )}
    </Sheet>
  );
}

function OwnAccount({ account, busy, way }: { account: Account | null | undefined; busy: boolean; way: Way }): ReactNode {
  if (!account)
    return (
      <Text>
        <a href="/" target="_blank" rel="noreferrer">
          Sign in
        </a>{' '}
        with your own account in another tab; then load this page again.
      </Text>
    );
  return (
    <>
      <Text>
        You are signed in as {account.address}. What {way.tenantName} has given to {way.name} will be yours.
      </Text>
      <Button type="submit" loading={busy}>
        Come in as {account.name}
      </Button>
    </>
  );
}

/** Behind the link that goes to whoever is to lose their second factor. */
export function KeepPage(): ReactNode {
  const [done, setDone] = useState(false);
  const { error, busy, run } = useTry();
  const keep = () => run(async () => client.keepFactors({ token: tokenOf() }).then(() => setDone(true)));
  return (
    <Sheet title={done ? 'Your second factor stays' : 'Keep your second factor?'} onSubmit={keep}>
      {done ? (
        <Text>Nothing was changed.</Text>
      ) : (
        <>
          <Text>Somebody said that you have lost it. If you have it still, keep it.</Text>
          <Button type="submit" loading={busy}>
            I have it still
          </Button>
        </>
      )}
      <Trouble error={error} />
    </Sheet>
  );
}
