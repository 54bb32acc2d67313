import { Button, Group, Stack, Table, Text, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { Anchor } from 'warm-lintel';
import { useDecision } from 'warm-lintel/react';
import { Link } from 'wouter';
import { ActionButton } from './action.js';
import { call, type Listed, type Named, type RoleHeld, useLoad } from './api.js';
import { useChange } from './change.js';
import { EnrolForm, WayIn } from './enrol.js';
import { PeopleFileForm } from './file-form.js';
import { InviteForm } from './invite.js';
import { Dialog, PeopleTabs, placeWords, RoleChoice } from './parts.js';
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
  if (members.error) return <Trouble error={members.error} />;
  if (!members.data || !invitations.data || !toGive.data || !sites.data) return null;
  const act = (method: string, to: string) =>
    attempt.run(async () => {
      await call(method, `${at}/invitations/${to}`, method === 'DELETE' ? undefined : {});
      reload();
    });
  const pending = invitations.data.items.filter((i) => i.status === 'pending' || i.status === 'expired');
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Group justify="space-between" align="flex-start">
        <Title order={1}>Members</Title>
        <Group>
          <ActionButton action="member.invite" variant="light" onClick={() => setListing(true)}>
            From a list
          </ActionButton>
          <ActionButton action="member.enrol" variant="light" onClick={() => setEnrolling(true)}>
            Enrol somebody
          </ActionButton>
          <ActionButton action="member.invite" onClick={() => setInviting(true)}>
            Invite people
          </ActionButton>
        </Group>
      </Group>
      {!mail && <Text mt="sm">No mail is set up: an invitation gives you a link to hand over yourself.</Text>}
      <Trouble error={attempt.error} />
      {change.trouble}
      {way && <WayIn activation={way} />}
      <Table mt="md" className="sheet" aria-label="Members">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Name</Table.Th>
            <Table.Th>Address</Table.Th>
            <Table.Th>Roles</Table.Th>
            <Table.Th aria-label="What can be done" />
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {members.data.items.map((member) => (
            <Table.Tr key={member.userId}>
              <Table.Td>
                <Link href={`/t/${tenant}/members/${member.userId}`}>{member.name}</Link>
                {member.status === 'suspended' && <Text size="sm">suspended</Text>}
                {member.kept === 'waiting' && <Text size="sm">enrolled, has not come yet</Text>}
              </Table.Td>
              <Table.Td>{member.address}</Table.Td>
              <Table.Td>
                {rolesInWords(member.roles)}
                {member.endsAt && <Text size="sm">member until {member.endsAt.slice(0, 10)}</Text>}
              </Table.Td>
              <Table.Td>
                <MemberButtons
                  name={member.name}
                  onRoles={() => setChanging(member)}
                  onRemove={() => change.ask(`Remove ${member.name}`, [{ do: 'remove', user: member.userId }])}
                />
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      <Title order={2} size="h3" mt="xl">
        Invited
      </Title>
      {pending.length === 0 ? (
        <Text className="quiet">Nobody is invited at the moment.</Text>
      ) : (
        <Table className="sheet" aria-label="Invited">
          <Table.Tbody>
            {pending.map((invitation) => (
              <Table.Tr key={invitation.id}>
                <Table.Td>{invitation.address}</Table.Td>
                <Table.Td>{rolesInWords(invitation.roles)}</Table.Td>
                <Table.Td className="quiet">
                  {invitation.status}, {MAIL[invitation.mail]}, until {invitation.expiresAt.slice(0, 10)}
                </Table.Td>
                <Table.Td>
                  <Group gap="xs">
                    <Button size="compact-sm" variant="light" onClick={() => act('POST', `${invitation.id}/again`)}>
                      Send again
                    </Button>
                    <Button size="compact-sm" variant="default" onClick={() => act('DELETE', invitation.id)}>
                      Withdraw
                    </Button>
                  </Group>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      <Requests key={asked} tenant={tenant} toGive={toGive.data.items} ask={change.ask} />
      {change.dialog}
      <Dialog opened={inviting} onClose={() => setInviting(false)} title="Invite people" size="xl">
        <InviteForm tenant={tenant} toGive={toGive.data.items} sites={sites.data.items} done={reload} />
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

function MemberButtons({ name, onRoles, onRemove }: { name: string; onRoles: () => void; onRemove: () => void }): ReactNode {
  const assign = useDecision('member.assign');
  const remove = useDecision('member.remove');
  return (
    <Group gap="xs">
      {assign.allowed && (
        <Button size="compact-sm" variant="light" onClick={onRoles} aria-label={`Change the roles of ${name}`}>
          Roles
        </Button>
      )}
      {remove.allowed && (
        <Button size="compact-sm" variant="default" onClick={onRemove} aria-label={`Remove ${name}`}>
          Remove
        </Button>
      )}
    </Group>
  );
}

/** Chooses the roles for the whole association; roles that are held elsewhere stay. */
function ChangeRoles(props: { member: MemberRow; toGive: readonly RoleToGive[]; choose: (roles: { role: string; anchor: Anchor }[]) => void }): ReactNode {
  const { member, toGive, choose } = props;
  const wide = member.roles.filter((r) => r.anchor.on === 'tenant').map((r) => r.role);
  const [chosen, setChosen] = useState(wide);
  const elsewhere = member.roles.filter((r) => r.anchor.on !== 'tenant').map(({ label: _, ...held }) => held);
  const kept = wide.filter((role) => !toGive.some((r) => r.role === role));
  return (
    <Stack>
      <RoleChoice label="Roles for the whole association" value={chosen} onChange={setChosen} toGive={toGive} />
      {kept.length > 0 && (
        <Text size="sm" className="quiet">
          Not yours to give or take: {kept.join(', ')}.
        </Text>
      )}
      <Button onClick={() => choose([...chosen.map((role) => ({ role, anchor: { on: 'tenant' } as const })), ...elsewhere])}>See what it does</Button>
    </Stack>
  );
}
