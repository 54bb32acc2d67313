import { NativeSelect, Text, Title } from '@mantine/core';
import type { ReactNode } from 'react';
import type { HeldPermission } from 'warm-lintel';
import { IfAllowed, useChange, useMembers, useRead, useRoles } from 'warm-lintel/react';
import { Link } from 'wouter';
import { ActionButton } from './action.js';
import { Alone } from './alone.js';
import type { Member } from './api.js';
import { Changing } from './change.js';
import { WayIn } from './enrol.js';
import { Journal } from './journal.js';
import { beginLook } from './look.js';
import { NotOpen } from './not-open.js';
import { Grid, PeopleTabs, placeWords, reachWords } from './parts.js';
import { Trouble, useTry } from './trouble.js';
import { AskWhy } from './why.js';

const BY = {
  keyholder: 'full control',
  direct: 'given alone',
  everyMember: 'every member',
  signedIn: 'whoever is signed in',
  visitor: 'everybody',
  caretaker: 'looking after the organisation',
} as const;

/** A way by which something is held, with a way back to what gives it: the role, the group, the site; the deputies, or what is shared. */
function Way({ tenant, path, children }: { tenant: string; path: HeldPermission['ways'][number]['path']; children: ReactNode }): ReactNode {
  const through = 'through' in path ? path.through : undefined;
  const [to, id] = through
    ? [through.on === 'group' ? 'groups' : 'units', through.id]
    : path.by === 'role'
      ? ['roles', path.role]
      : path.by === 'keyholder'
        ? ['roles', '']
        : path.by === 'deputy'
          ? ['deputies', '']
          : path.by === 'opening'
            ? ['sharing', '']
            : [];
  if (to === undefined) return children;
  return <Link href={`/t/${tenant}/${to}${id && `#${encodeURIComponent(id)}`}`}>{children}</Link>;
}

/** When they last came in here, and whose account it is; of nothing elsewhere. */
function Entered({ member: { kept, lastEntered } }: { member: Member }): ReactNode {
  const account = { waiting: 'Enrolled here; nobody has come to the account yet.', theirs: 'An account that this association keeps.' };
  return (
    <Text size="sm" className="quiet">
      {kept && `${account[kept]} `}
      {lastEntered && `Last came in on ${lastEntered.slice(0, 10)} at ${lastEntered.slice(11, 16)}.`}
    </Text>
  );
}

/** What came by a provider, and goes when that says so no longer. */
function Brought({ member: { roles } }: { member: Member }): ReactNode {
  const { data } = useRead('listSources');
  const brought = roles.filter(({ sources }) => sources);
  if (!data || brought.length === 0) return null;
  const name = (source: string) => data.items.find((one) => one.source === source)?.name ?? source;
  return brought.map(({ label, anchor, sources = [] }) => (
    <Text key={label + placeWords(anchor)} size="sm" className="quiet">
      {label}
      {placeWords(anchor)} by {sources.map(name).join(' and ')}
    </Text>
  ));
}

/** One member: everything that they hold, and every way by which it comes to them. */
export function MemberPage({ tenant, id }: { tenant: string; id: string }): ReactNode {
  const { data, error } = useRead('member', { user: id });
  const members = useMembers();
  const roles = useRoles();
  const change = useChange();
  const way = change.done.find((one) => one.secret)?.secret;
  const looking = useTry();
  if (error) return <NotOpen tenant={tenant} title="Member" error={error} />;
  if (!data || !(roles.items || roles.error)) return null;
  const member = members.items?.find(({ userId }) => userId === id);
  const name = (user: string) => members.items?.find(({ userId }) => userId === user)?.name ?? user;
  const label = (role: string) => roles.items?.find((one) => one.id === role)?.label ?? role;
  const by = (path: HeldPermission['ways'][number]['path']) => {
    const through = 'through' in path && path.through ? `, through ${path.through.name}` : '';
    if (path.by === 'role') return `${label(path.role)}${path.included.length > 0 ? ` (includes ${path.included.map(label).join(', ')})` : ''}${through}`;
    if (path.by === 'deputy') return `standing in for ${path.name}`;
    return path.by === 'opening' ? `opened by ${path.group}${through}` : `${BY[path.by]}${through}`;
  };
  const suspended = member?.status === 'suspended';
  const step = { do: suspended ? ('restore' as const) : ('suspend' as const), user: id };
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <div className="head">
        <div>
          <Title order={1}>{data.name}</Title>
          <Text className="quiet">
            {suspended ? 'suspended; ' : ''}
            {data.line}
            {member && ` · ${member.address}`}
          </Text>
          {member && <Entered member={member} />}
          {member && <Brought member={member} />}
        </div>
        <div className="actions">
          <ActionButton action="access.look" variant="light" onClick={() => looking.run(() => beginLook(tenant, { user: id }))}>
            Look as {data.name}
          </ActionButton>
          <ActionButton action="access.look" variant="light" onClick={() => looking.run(() => beginLook(tenant, { user: id, tries: true }))}>
            Try as {data.name}
          </ActionButton>
          <ActionButton action="member.suspend" variant="light" onClick={() => change.show([step], `${suspended ? 'Bring back' : 'Suspend'} ${data.name}`)}>
            {suspended ? 'Bring back' : 'Suspend'}
          </ActionButton>
          {member?.kept && (
            <ActionButton
              action="member.enrol"
              variant="light"
              onClick={() => change.show([{ do: 'make-activation', user: id }], `A new way in for ${data.name}`)}
            >
              New way in
            </ActionButton>
          )}
          <ActionButton
            action="member.suspend"
            variant="light"
            onClick={() => change.show([{ do: 'ask-password', user: id }], `${data.name} chooses a new password first`)}
          >
            Ask for a new password
          </ActionButton>
          <ActionButton action="member.remove" variant="default" onClick={() => change.show([{ do: 'remove', user: id }], `Remove ${data.name}`)}>
            Remove
          </ActionButton>
        </div>
      </div>
      <Changing change={change} />
      {way && <WayIn activation={way} />}
      <Trouble error={looking.error} />
      {data.permissions.length > 0 && (
        <Grid
          label="What they hold"
          columns={['May', 'How far, by what']}
          rows={data.permissions.map(({ permission, label: may, ways }) => ({
            key: permission,
            cells: [
              may,
              <div key="ways">
                {ways.map(({ reach, anchor, path }, i) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: the ways of one permission have no name, and stay in their order
                  <div key={i}>
                    {reachWords([reach])}
                    {placeWords(anchor)}{' '}
                    <span className="quiet">
                      by{' '}
                      <Way tenant={tenant} path={path}>
                        {by(path)}
                      </Way>
                    </span>
                  </div>
                ))}
              </div>,
            ],
          }))}
        />
      )}
      {data.permissions.length === 0 && <Text mt="md">Nothing at all.</Text>}
      <IfAllowed action="access.ask">
        <AskWhy user={id} />
      </IfAllowed>
      <IfAllowed action="member.assign">
        <Alone on="user" id={id} name={data.name} />
      </IfAllowed>
      <Journal about={{ person: id }} title="What they did lately" people={members.items?.map((one) => ({ id: one.userId, name: one.name })) ?? []} />
      <IfAllowed action="hive.transfer">
        <NativeSelect
          mt="md"
          w={280}
          label="Hand their hives over to"
          value=""
          onChange={({ currentTarget: { value: to } }) =>
            change.show([{ do: 'hand-over', from: id, to, kinds: ['hive'] }], `Hand the hives of ${data.name} over to ${name(to)}`)
          }
          data={[
            { value: '', label: 'choose a member …', disabled: true },
            ...(members.items ?? [])
              .filter(({ userId, status }) => userId !== id && status === 'active')
              .map((one) => ({ value: one.userId, label: one.name })),
          ]}
        />
      </IfAllowed>
      <Text mt="md">
        <Link href={`/t/${tenant}/members`}>All members</Link>
      </Text>
    </>
  );
}
