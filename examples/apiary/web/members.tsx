import { Group, Text, Title } from '@mantine/core';
import { Fragment, type ReactNode, useState } from 'react';
import { useChange, useMembers } from 'warm-lintel/react';
import { Link } from 'wouter';
import { ActionButton, Refused, RowButton } from './action.js';
import type { Member } from './api.js';
import { Changing } from './change.js';
import { EnrolForm, WayIn } from './enrol.js';
import { PeopleFileForm } from './file-form.js';
import { rolesInWords } from './holding.js';
import { InviteForm } from './invite.js';
import { Invited } from './invited.js';
import { NotOpen } from './not-open.js';
import { Dialog, Grid, PeopleTabs } from './parts.js';
import { Requests } from './requests.js';
import { RolesOf } from './roles-of.js';

const FORMS = { invite: 'Invite people', list: 'People from a list', enrol: 'Enrol somebody' } as const;

/** The members, whoever is invited, and whoever asks to be let in. */
export function MembersPage({ tenant, mail }: { tenant: string; mail: boolean }): ReactNode {
  const change = useChange();
  const { items, error, more, remove, setRoles } = useMembers({ change });
  const [form, setForm] = useState<keyof typeof FORMS>();
  const [changing, setChanging] = useState<Member>();
  const way = change.done.find(({ secret }) => secret)?.secret;
  const close = () => setForm(undefined);
  if (error) return <NotOpen tenant={tenant} title="Members" error={error} />;
  if (!items) return null;
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <div className="head">
        <Title order={1}>Members</Title>
        <div className="actions">
          <ActionButton action="member.invite" onClick={() => setForm('invite')}>
            Invite people
          </ActionButton>
          <ActionButton action="member.invite" variant="light" onClick={() => setForm('list')}>
            From a list
          </ActionButton>
          <ActionButton action="member.enrol" variant="light" onClick={() => setForm('enrol')}>
            Enrol somebody
          </ActionButton>
        </div>
      </div>
      {!mail && <Text mt="sm">No mail is set up: an invitation gives you a link to hand over yourself.</Text>}
      <Changing change={change} />
      {way && <WayIn activation={way} />}
      <Refused actions={['member.assign', 'member.remove']} />
      <Grid
        label="Members"
        columns={['Name', 'Address', 'Roles', '']}
        rows={items.map((member) => ({
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
                onClick={() => void remove(member.userId, `Remove ${member.name}`)}
                label={`Remove ${member.name}`}
              >
                Remove
              </RowButton>
            </Group>,
          ],
        }))}
        more={more}
      />
      <Invited />
      <Requests change={change} />
      <Dialog opened={form !== undefined} onClose={close} title={form ? FORMS[form] : ''} size={form === 'enrol' ? 'md' : 'xl'}>
        {form === 'invite' && <InviteForm tenant={tenant} />}
        {form === 'list' && <PeopleFileForm tenant={tenant} />}
        {form === 'enrol' && (
          <EnrolForm
            propose={(name, steps) => {
              close();
              void change.show(steps, `Enrol ${name}`);
            }}
          />
        )}
      </Dialog>
      <Dialog opened={changing !== undefined} onClose={() => setChanging(undefined)} title={`Roles of ${changing?.name ?? ''}`}>
        {changing && (
          <RolesOf
            member={changing}
            choose={(roles) => {
              setChanging(undefined);
              void setRoles(changing.userId, roles, `Roles of ${changing.name}`);
            }}
          />
        )}
      </Dialog>
    </>
  );
}
