import { Button, Group, Modal, Stack, Table, Text, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useDecision } from 'warm-lintel/react';
import { call, type Named, type RoleHeld, useLoad } from './api.js';
import { InviteForm } from './invite.js';
import { ActionButton, RoleChoice, Trouble, useTry } from './parts.js';

export interface MembersAnswer {
  members: { userId: string; name: string; address: string; roles: RoleHeld[] }[];
  invitations: { id: string; address: string; status: string; mail: string; expiresAt: string; roles: RoleHeld[] }[];
  toGive: { role: string; label: string; sentence: string }[];
  sites: Named[];
}

const rolesInWords = (roles: RoleHeld[]) =>
  roles.map((r) => `${r.label}${r.anchor.on === 'unit' ? ` at ${r.anchor.name ?? r.anchor.unitId}` : ''}`).join(', ') || 'no role';
const MAIL: Record<string, string> = {
  waiting: 'message waiting to be sent',
  sent: 'message sent',
  'given up': 'message could not be sent',
  none: 'no message: hand over the link',
};

export function MembersPage({ tenant, mail }: { tenant: string; mail: boolean }): ReactNode {
  const path = `/api/t/${tenant}`;
  const { data, error, reload } = useLoad<MembersAnswer>(`${path}/members`);
  const attempt = useTry();
  const [inviting, setInviting] = useState(false);
  const [changing, setChanging] = useState<MembersAnswer['members'][number]>();
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const changed = () => {
    setChanging(undefined);
    reload();
  };
  const act = (method: string, to: string) =>
    attempt.run(async () => {
      await call(method, `${path}/${to}`, method === 'DELETE' ? undefined : {});
      reload();
    });
  const pending = data.invitations.filter((i) => i.status === 'pending' || i.status === 'expired');
  return (
    <>
      <Group justify="space-between" align="flex-start">
        <Title order={1}>Members</Title>
        <ActionButton action="member.invite" onClick={() => setInviting(true)}>
          Invite people
        </ActionButton>
      </Group>
      {!mail && <Text mt="sm">No mail is set up: an invitation gives you a link to hand over yourself.</Text>}
      <Trouble error={attempt.error} />
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
          {data.members.map((member) => (
            <Table.Tr key={member.userId}>
              <Table.Td>{member.name}</Table.Td>
              <Table.Td>{member.address}</Table.Td>
              <Table.Td>{rolesInWords(member.roles)}</Table.Td>
              <Table.Td>
                <MemberButtons onRoles={() => setChanging(member)} onRemove={() => act('DELETE', `members/${member.userId}`)} name={member.name} />
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
                    <Button size="compact-sm" variant="light" onClick={() => act('POST', `invitations/${invitation.id}/again`)}>
                      Send again
                    </Button>
                    <Button size="compact-sm" variant="default" onClick={() => act('DELETE', `invitations/${invitation.id}`)}>
                      Withdraw
                    </Button>
                  </Group>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      <Modal opened={inviting} onClose={() => setInviting(false)} title="Invite people" size="xl" closeButtonProps={{ 'aria-label': 'Close' }}>
        <InviteForm path={path} toGive={data.toGive} sites={data.sites} done={reload} />
      </Modal>
      <Modal
        opened={changing !== undefined}
        onClose={() => setChanging(undefined)}
        title={`Roles of ${changing?.name ?? ''}`}
        closeButtonProps={{ 'aria-label': 'Close' }}
      >
        {changing && <ChangeRoles path={path} member={changing} toGive={data.toGive} done={changed} />}
      </Modal>
    </>
  );
}

function MemberButtons({ name, onRoles, onRemove }: { name: string; onRoles: () => void; onRemove: () => void }): ReactNode {
  const assign = useDecision('member.assign');
  const remove = useDecision('member.remove');
  const [sure, setSure] = useState(false);
  return (
    <Group gap="xs">
      {assign.allowed && (
        <Button size="compact-sm" variant="light" onClick={onRoles} aria-label={`Change the roles of ${name}`}>
          Roles
        </Button>
      )}
      {remove.allowed && (
        <Button
          size="compact-sm"
          variant="default"
          onClick={() => (sure ? onRemove() : setSure(true))}
          aria-label={sure ? `Yes, remove ${name}` : `Remove ${name}`}
        >
          {sure ? 'Yes, remove' : 'Remove'}
        </Button>
      )}
    </Group>
  );
}

/** Replaces the roles for the whole association, in one step; roles that are held elsewhere stay. */
function ChangeRoles({
  path,
  member,
  toGive,
  done,
}: {
  path: string;
  member: MembersAnswer['members'][number];
  toGive: MembersAnswer['toGive'];
  done: () => void;
}): ReactNode {
  const wide = member.roles.filter((r) => r.anchor.on === 'tenant').map((r) => r.role);
  const [chosen, setChosen] = useState(wide);
  const { error, busy, run } = useTry();
  const elsewhere = member.roles.filter((r) => r.anchor.on === 'unit').map((r) => ({ role: r.role, unitId: (r.anchor as { unitId: string }).unitId }));
  const kept = wide.filter((role) => !toGive.some((r) => r.role === role));
  return (
    <Stack>
      <RoleChoice label="Roles for the whole association" value={chosen} onChange={setChosen} toGive={toGive} />
      {kept.length > 0 && (
        <Text size="sm" className="quiet">
          Not yours to give or take: {kept.join(', ')}.
        </Text>
      )}
      <Button
        loading={busy}
        onClick={() =>
          run(async () => {
            await call('PUT', `${path}/members/${member.userId}/roles`, { roles: [...chosen.map((role) => ({ role })), ...elsewhere] });
            done();
          })
        }
      >
        Save
      </Button>
      <Trouble error={error} />
    </Stack>
  );
}
