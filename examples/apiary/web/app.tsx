import { Alert, Burger, Button, Loader, NativeSelect, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useCallback, useEffect, useState } from 'react';
import type { Snapshot } from 'warm-lintel';
import { IfAllowed, StandingProvider, useFresh, useStanding } from 'warm-lintel/react';
import { Link, Redirect, Route, Switch, useLocation } from 'wouter';
import { charter } from '../world/charter.js';
import { AccessPage } from './access.js';
import { call, client, type MeAnswer, useLoad } from './api.js';
import { AppealsPage } from './appeals.js';
import { ConnectionsPage } from './connections.js';
import { DeputiesPage } from './deputies.js';
import { GroupsPage } from './groups.js';
import { HivePage } from './hive.js';
import { HivesPage } from './hives.js';
import { InvitationPage } from './invitation.js';
import { LedgerPage } from './ledger.js';
import { ActivatePage, EnrolledPage, ForgottenPage, KeepPage, RecoverPage, SignUpPage } from './letters.js';
import { LookBar } from './look.js';
import { AddressPage, FactorPage, MePage } from './me.js';
import { MemberPage } from './member.js';
import { MembersPage } from './members.js';
import { OrganisationPage } from './organisation.js';
import { PEOPLE_PAGES } from './parts.js';
import { ProgramsPage } from './programs.js';
import { RecordPage } from './record.js';
import { RecordsPage } from './records.js';
import { RolesPage } from './roles.js';
import { RulesPage } from './rules.js';
import { SharingPage } from './sharing.js';
import { SignInPage } from './sign.js';
import { TrayPage } from './tray.js';
import { First, NotFound, Trouble, useTry } from './trouble.js';
import { UnitsPage } from './units.js';

const AREAS: Record<string, { path: string; label: string }> = {
  hives: { path: 'hives', label: 'Hives' },
  ledger: { path: 'ledger', label: 'Ledger' },
  health: { path: 'health', label: 'Health' },
  sheets: { path: 'sheets', label: 'Sheets' },
  members: { path: 'members', label: 'Members' },
};

export function App(): ReactNode {
  const me = useLoad<MeAnswer>('/api/me');
  if (!me.data) return me.error ? <Trouble error={me.error} /> : <Waiting />;
  const { data, reload } = me;
  return (
    <Switch>
      <Route path="/invitation">
        <InvitationPage me={data} reload={reload} />
      </Route>
      <Route path="/sign-up">
        <SignUpPage me={data} />
      </Route>
      <Route path="/activate">
        <ActivatePage reload={reload} />
      </Route>
      <Route path="/forgotten">
        <ForgottenPage me={data} />
      </Route>
      <Route path="/recover">
        <RecoverPage />
      </Route>
      <Route path="/enrolled">
        <EnrolledPage reload={reload} />
      </Route>
      <Route path="/keep">
        <KeepPage />
      </Route>
      <Route path="/me">{data.user ? <MePage me={data} reload={reload} /> : <SignInPage me={data} reload={reload} />}</Route>
      <Route path="/factor">{data.user ? <FactorPage /> : <SignInPage me={data} reload={reload} />}</Route>
      <Route path="/address">{data.user ? <AddressPage /> : <SignInPage me={data} reload={reload} />}</Route>
      <Route path="/mail">{data.tray ? <TrayPage /> : <NotFound />}</Route>
      <Route path="/t/:tenant/*?">
        {(params) =>
          data.user ? <TenantPages key={params.tenant} me={data} tenant={params.tenant} /> : <SignInPage me={data} reload={reload} tenant={params.tenant} />
        }
      </Route>
      <Route path="/">{data.user ? <Home me={data} reload={reload} /> : <SignInPage me={data} reload={reload} />}</Route>
      <Route>
        <NotFound />
      </Route>
    </Switch>
  );
}

function Waiting(): ReactNode {
  return (
    <main className="page" aria-busy="true">
      <Loader aria-label="Loading" />
    </main>
  );
}

async function signOut(): Promise<void> {
  await client.signOut({});
  window.location.assign('/');
}

function Home({ me, reload }: { me: MeAnswer; reload: () => void }): ReactNode {
  if (me.tenants.length === 1 && me.invitations.length === 0) return <Redirect to={`/t/${me.tenants[0]?.id}`} replace />;
  return (
    <main className="page">
      <Title order={1}>Hello {me.user?.name}</Title>
      <Link href="/me">My account</Link>
      {me.invitations.map((i) => (
        <Text key={i.invitationId} mt="md">
          {i.tenantName} has invited you.{' '}
          <Button
            size="compact-sm"
            onClick={() => void call('POST', '/api/invitation/accept', { tenantId: i.tenantId, invitationId: i.invitationId }).then(reload)}
          >
            Accept
          </Button>
        </Text>
      ))}
      <Text mt="md">{me.tenants.length === 0 ? 'You belong to no organisation. Ask somebody to invite you.' : 'Where to?'}</Text>
      <ul>
        {me.tenants.map((t) => (
          <li key={t.id}>
            <Link href={`/t/${t.id}`}>{t.name}</Link>
          </li>
        ))}
      </ul>
      <Button variant="default" onClick={() => void signOut()}>
        Sign out
      </Button>
    </main>
  );
}

interface StandingAnswer {
  snapshot: Snapshot;
  line: string;
  startsAt: string | null;
}

function TenantPages({ me, tenant }: { me: MeAnswer; tenant: string }): ReactNode {
  const base = `/t/${tenant}`;
  const load = useCallback(() => call<StandingAnswer>('GET', `/api${base}/standing`), [base]);
  const { data, error, reload } = useFresh(load);
  if (error && !data) return error.status === 404 ? <Outside tenant={tenant} /> : <Trouble error={error} />;
  if (!data) return <Waiting />;
  const [first] = Object.entries(data.snapshot.demands ?? {});
  return (
    <StandingProvider charter={charter} snapshot={data.snapshot}>
      <LookBar tenant={tenant} />
      <Bar me={me} tenant={tenant} line={data.line} />
      <main className="page">
        {!first && <Welcome line={data.line} />}
        {first && (
          <>
            <Title order={1}>{data.snapshot.tenant.name}</Title>
            <First obligation={first[0]} why={`One thing first: ${first[1]}`} onDone={reload} />
          </>
        )}
        <Switch>
          {first && <Route />}
          <Route path={base}>
            {data.startsAt && data.startsAt !== 'sheets' ? <Redirect to={`${base}/${data.startsAt}`} replace /> : <Empty answer={data} />}
          </Route>
          <Route path={`${base}/hives`}>
            <HivesPage tenant={tenant} />
          </Route>
          <Route path={`${base}/hives/:id`}>{(params) => <HivePage tenant={tenant} id={params.id} />}</Route>
          <Route path={`${base}/members`}>
            <MembersPage tenant={tenant} mail={me.mail} />
          </Route>
          <Route path={`${base}/members/:id`}>{(params) => <MemberPage tenant={tenant} id={params.id} />}</Route>
          <Route path={`${base}/roles`}>
            <RolesPage tenant={tenant} />
          </Route>
          <Route path={`${base}/groups`}>
            <GroupsPage tenant={tenant} />
          </Route>
          <Route path={`${base}/units`}>
            <UnitsPage tenant={tenant} />
          </Route>
          <Route path={`${base}/programs`}>
            <ProgramsPage tenant={tenant} />
          </Route>
          <Route path={`${base}/rules`}>
            <RulesPage tenant={tenant} />
          </Route>
          <Route path={`${base}/connections`}>
            <ConnectionsPage tenant={tenant} />
          </Route>
          <Route path={`${base}/organisation`}>
            <OrganisationPage tenant={tenant} />
          </Route>
          <Route path={`${base}/sharing`}>
            <SharingPage tenant={tenant} />
          </Route>
          <Route path={`${base}/deputies`}>
            <DeputiesPage />
          </Route>
          <Route path={`${base}/ledger`}>
            <LedgerPage tenant={tenant} />
          </Route>
          <Route path={`${base}/record`}>
            <RecordPage tenant={tenant} />
          </Route>
          <Route path={`${base}/appeals`}>
            <AppealsPage tenant={tenant} />
          </Route>
          <Route path={`${base}/access`}>
            <AccessPage tenant={tenant} />
          </Route>
          {['health', 'sheets'].map((area) => (
            <Route key={area} path={`${base}/${area}`}>
              <RecordsPage tenant={tenant} area={area} />
            </Route>
          ))}
          <Route>
            <NotFound />
          </Route>
        </Switch>
      </main>
    </StandingProvider>
  );
}

/** Somebody who is no member, or there is no such organisation: that is not told apart. */
function Outside({ tenant }: { tenant: string }): ReactNode {
  const [words, setWords] = useState('');
  const [outcome, setOutcome] = useState<'joined' | 'asked'>();
  const asking = useTry();
  const ask = () => asking.run(async () => setOutcome((await client.askToJoin({ tenant, words })).outcome));
  return (
    <>
      <NotFound />
      <section className="page" aria-label="Ask to be let in">
        <Text>If somebody told you of an organisation here, you can ask to be let in.</Text>
        <TextInput label="A few words about you" value={words} onChange={(event) => setWords(event.currentTarget.value)} maxLength={500} my="sm" />
        <Button loading={asking.busy} onClick={ask}>
          Ask
        </Button>
        <div aria-live="polite">
          {asking.error && <Text mt="sm">{asking.error.status === 404 ? 'Nobody can ask to be let in here.' : asking.error.message}</Text>}
          {outcome === 'asked' && <Text mt="sm">You have asked. You are told by mail when somebody has answered.</Text>}
          {outcome === 'joined' && (
            <Text mt="sm">
              You are in. <a href={`/t/${tenant}`}>Go on</a>
            </Text>
          )}
        </div>
      </section>
    </>
  );
}

/** The first time that somebody is here: what they hold, and whom to ask. */
function Welcome({ line }: { line: string }): ReactNode {
  const { tenant, me } = useStanding().facts;
  const [shown, setShown] = useState(() => sessionStorage.getItem('welcome') === tenant.id);
  if (!shown) return null;
  const close = () => {
    sessionStorage.removeItem('welcome');
    setShown(false);
  };
  return (
    <Alert color="honey" mb="md" role="status" withCloseButton closeButtonLabel="Close" onClose={close} title={`Welcome to ${tenant.name}, ${me.name ?? ''}`}>
      You are here as {line}. What is not yours to do is grey, and says why.{tenant.contact && ` Questions? Ask ${tenant.contact}.`}
    </Alert>
  );
}

/** Somebody whose roles give nothing: they are told whom to ask, instead of an empty page. */
function Empty({ answer }: { answer: StandingAnswer }): ReactNode {
  const { contact, name } = answer.snapshot.tenant;
  return (
    <div className="sheet">
      <Title order={1}>Welcome to {name}</Title>
      <Text mt="sm">Nothing is open to you here yet: you hold no role. Ask {contact ?? 'the person who invited you'} to give you one.</Text>
      <Text mt="sm" className="quiet">
        The <Link href={`/t/${answer.snapshot.tenant.id}/sheets`}>reference sheets</Link> are open to every member.
      </Text>
    </div>
  );
}

/** @param also other pages that belong to it. */
function Tab({ href, also = [], children }: { href: string; also?: readonly string[]; children: ReactNode }): ReactNode {
  const [here] = useLocation();
  const isHere = [href, ...also].some((path) => here === path || here.startsWith(`${path}/`));
  return (
    <Link href={href} aria-current={isHere ? 'page' : undefined}>
      {children}
    </Link>
  );
}

function Bar({ me, tenant, line }: { me: MeAnswer; tenant: string; line: string }): ReactNode {
  const [here, go] = useLocation();
  const [open, setOpen] = useState(false);
  const {
    look,
    me: { name },
  } = useStanding().facts;
  // Whoever chose a page has done with the menu.
  // biome-ignore lint/correctness/useExhaustiveDependencies: at each page
  useEffect(() => setOpen(false), [here]);
  const folded = open ? undefined : 'folded';
  return (
    <header className="bar">
      <span className="brand">Apiary</span>
      <NativeSelect
        aria-label="Organisation"
        size="sm"
        value={tenant}
        data={me.tenants.map((t) => ({ value: t.id, label: t.name }))}
        onChange={(event) => go(`/t/${event.currentTarget.value}`)}
      />
      <Burger className="menu" size="sm" opened={open} aria-expanded={open} aria-label="Menu" onClick={() => setOpen(!open)} />
      <nav aria-label="Areas" className={folded}>
        {Object.entries(AREAS).map(([area, { path, label }]) => (
          <IfAllowed key={area} action={`area.${area}`}>
            <Tab href={`/t/${tenant}/${path}`} also={area === 'members' ? Object.keys(PEOPLE_PAGES).map((page) => `/t/${tenant}/${page}`) : []}>
              {label}
            </Tab>
          </IfAllowed>
        ))}
        <IfAllowed action="area.members">
          <Tab href={`/t/${tenant}/access`}>Access</Tab>
        </IfAllowed>
        <Tab href={`/t/${tenant}/deputies`}>Deputies</Tab>
        {me.tray && (
          <a href="/mail" target="_blank" rel="noreferrer">
            Mail tray
          </a>
        )}
      </nav>
      <Text size="sm" className={open ? 'quiet' : 'quiet folded'}>
        <Link href="/me">{me.user?.name}</Link>
        {look ? `, as ${name ?? 'somebody'}` : ''} · {line}
      </Text>
      <Button size="compact-sm" variant="default" className={folded} onClick={() => void signOut()}>
        Sign out
      </Button>
    </header>
  );
}
