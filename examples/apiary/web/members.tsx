import { Button, Group, Stack, Text, Title } from '@mantine/core';
import { Fragment, type ReactNode, useState } from 'react';
import type { Assignment } from 'warm-lintel';
import { Link } from 'wouter';
import { ActionButton, Refused, RowButton } from './action.js';
import { call, type Listed, type Named, type RoleHeld, useLoad } from './api.js';
import { useChange } from './change.js';
import { EnrolForm, WayIn } from './enrol.js';
import { PeopleFileForm } from './file-form.js';
import { inForm, outOfForm } from './holding.js';
import { InviteForm } from './invite.js';
import { NotOpen } from './not-open.js';
import { Dialog, Grid, PeopleTabs, placeWords, RoleChoice } from './parts.js';
import { Requests } from './requests.js';
import { Trouble, useTry } from './trouble.js';

export interface MemberRow {
  userId: string;
  name: string;
  address: string;
  status: string;
  roles: RoleHeld[];
  endsAt?: string;
  kept?: 'waiting' | 'theirs';
  lastEntered?: string;
}
interface InvitationRow {
  id: string;
  address: string;
  status: string;
  mail: string;
  expiresAt: string;
  roles: RoleHeld[];
}
export interface RoleToGive {
  role: string;
  label: string;
  sentence?: string;
}

const rolesInWords = (roles: RoleHeld[]) => roles.map((r) => `${r.label}${placeWords(r.anchor)}`).join(', ') || 'no role';
const MAIL: Record<string, string> = {
  waiting: 'message waiting to be sent',
  sent: 'message sent',
  'given up': 'message could not be sent',
  none: 'no message: hand over the link',
};

export function MembersPage({ tenant, mail }: { tenant: string; mail: boolean }): ReactNode {
  const at = `/lintel/tenants/${tenant}`;
  const members = useLoad<Listed<MemberRow>>(`${at}/members?limit=200`);
  const invitations = useLoad<Listed<InvitationRow>>(`${at}/invitations?limit=200`);
  const toGive = useLoad<Listed<RoleToGive>>(`${at}/roles-to-give`);
  const sites = useLoad<Listed<Named>>(`${at}/units`);
  const groups = useLoad<Listed<Named>>(`${at}/groups`);
  const attempt = useTry();
  const [inviting, setInviting] = useState(false);
  const [listing, setListing] = useState(false);
  const [enrolling, setEnrolling] = useState(false);
  const [way, setWay] = useState<string>();
  const [changing, setChanging] = useState<MemberRow>();
  const [asked, setAsked] = useState(0);
  const reload = () => {
    setAsked(asked + 1);
    members.reload();
    invitations.reload();
  };
  const change = useChange(tenant, ({ done }) => {
    setWay(done.find((one) => one.secret)?.secret);
    reload();
  });
  if (members.error) return <NotOpen tenant={tenant} title="Members" error={members.error} />;
  if (!members.data || !invitations.data || !toGive.data || !sites.data || !groups.data) return null;
  const act = (method: string, to: string) =>
    attempt.run(async () => {
      await call(method, `${at}/invitations/${to}`, method === 'DELETE' ? undefined : {});
      reload();
    });
  const pending = invitations.data.items.filter((i) => i.status === 'pending' || i.status === 'expired');
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <div className="head">
        <Title order={1}>Members</Title>
        <div className="actions">
          <ActionButton action="member.invite" variant="light" onClick={() => setListing(true)}>
            From a list
          </ActionButton>
          <ActionButton action="member.enrol" variant="light" onClick={() => setEnrolling(true)}>
            Enrol somebody
          </ActionButton>
          <ActionButton action="member.invite" onClick={() => setInviting(true)}>
            Invite people
          </ActionButton>
        </div>
      </div>
      {!mail && <Text mt="sm">No mail is set up: an invitation gives you a link to hand over yourself.</Text>}
      <Trouble error={attempt.error} />
      {change.trouble}
      {way && <WayIn activation={way} />}
      <Refused actions={['member.assign', 'member.remove']} />
      <Grid
        label="Members"
        columns={['Name', 'Address', 'Roles', '']}
        rows={members.data.items.map((member) => ({
          key: member.userId,
          cells: [
            <Fragment key="name">
              <Link href={`/t/${tenant}/members/${member.userId}`}>{member.name}</Link>
              {member.status === 'suspended' && <Text size="sm">suspended</Text>}
              {member.kept === 'waiting' && <Text size="sm">enrolled, has not come yet</Text>}
            </Fragment>,
            member.address,
            <div key="roles">
              {rolesInWords(member.roles)}
              {member.endsAt && <Text size="sm">member until {member.endsAt.slice(0, 10)}</Text>}
            </div>,
            <Group key="do" gap="xs">
              <RowButton action="member.assign" onClick={() => setChanging(member)} label={`Change the roles of ${member.name}`}>
                Roles
              </RowButton>
              <RowButton
                action="member.remove"
                variant="default"
                onClick={() => change.ask(`Remove ${member.name}`, [{ do: 'remove', user: member.userId }])}
                label={`Remove ${member.name}`}
              >
                Remove
              </RowButton>
            </Group>,
          ],
        }))}
      />
      <Title order={2} size="h3" mt="xl">
        Invited
      </Title>
      {pending.length === 0 ? (
        <Text className="quiet">Nobody is invited at the moment.</Text>
      ) : (
        <Grid
          label="Invited"
          columns={['Address', 'Roles', 'Where it stands', '']}
          rows={pending.map((invitation) => ({
            key: invitation.id,
            cells: [
              invitation.address,
              rolesInWords(invitation.roles),
              `${invitation.status}, ${MAIL[invitation.mail]}, until ${invitation.expiresAt.slice(0, 10)}`,
              <Group key="do" gap="xs">
                <RowButton action="member.invite" label={`Send again to ${invitation.address}`} onClick={() => act('POST', `${invitation.id}/again`)}>
                  Send again
                </RowButton>
                <RowButton action="member.invite" variant="default" label={`Withdraw ${invitation.address}`} onClick={() => act('DELETE', invitation.id)}>
                  Withdraw
                </RowButton>
              </Group>,
            ],
          }))}
        />
      )}
      <Requests key={asked} tenant={tenant} toGive={toGive.data.items} ask={change.ask} />
      {change.dialog}
      <Dialog opened={inviting} onClose={() => setInviting(false)} title="Invite people" size="xl">
        <InviteForm tenant={tenant} toGive={toGive.data.items} sites={sites.data.items} groups={groups.data.items} done={reload} />
      </Dialog>
      <Dialog opened={listing} onClose={() => setListing(false)} title="People from a list" size="lg">
        <PeopleFileForm tenant={tenant} done={reload} />
      </Dialog>
      <Dialog opened={enrolling} onClose={() => setEnrolling(false)} title="Enrol somebody">
        <EnrolForm
          toGive={toGive.data.items}
          propose={(name, steps) => {
            setEnrolling(false);
            change.ask(`Enrol ${name}`, steps);
          }}
        />
      </Dialog>
      <Dialog opened={changing !== undefined} onClose={() => setChanging(undefined)} title={`Roles of ${changing?.name ?? ''}`}>
        {changing && (
          <ChangeRoles
            member={changing}
            toGive={toGive.data.items}
            choose={(roles) => {
              setChanging(undefined);
              change.ask(`Roles of ${changing.name}`, [{ do: 'set-roles', holder: { user: changing.userId }, roles }]);
            }}
          />
        )}
      </Dialog>
    </>
  );
}

/** Chooses the roles for the whole association; roles that are held elsewhere stay. */
function ChangeRoles(props: { member: MemberRow; toGive: readonly RoleToGive[]; choose: (roles: Assignment[]) => void }): ReactNode {
  const { member, toGive, choose } = props;
  const { wide, kept: elsewhere } = inForm(member.roles.map(({ label: _, sources: __, ...held }) => held));
  const [chosen, setChosen] = useState(wide);
  const kept = member.roles.filter(({ role, anchor }) => anchor.on === 'tenant' && !toGive.some((one) => one.role === role));
  return (
    <Stack>
      <RoleChoice label="Roles for the whole association" value={chosen} onChange={setChosen} toGive={toGive} />
      {kept.length > 0 && (
        <Text size="sm" className="quiet">
          Not yours to give or take: {kept.map(({ label }) => label).join(', ')}.
        </Text>
      )}
      <Button onClick={() => choose(outOfForm(chosen, elsewhere))}>See what it does</Button>
    </Stack>
  );
}
