import { Button, Group, Text, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { type Change, useRead } from 'warm-lintel/react';
import { RowButton } from './action.js';
import type { JoinRequest } from './api.js';
import { Dialog, Grid, RoleChoice } from './parts.js';

/** Who asks to be let in, for whoever may answer. */
export function Requests({ change }: { change: Change }): ReactNode {
  const { data } = useRead('listRequests');
  const [answering, setAnswering] = useState<JoinRequest>();
  const [roles, setRoles] = useState<string[]>([]);
  if (!data || data.items.length === 0) return null;
  const letIn = ({ userId, name }: JoinRequest) => {
    setAnswering(undefined);
    void change.show([{ do: 'let-in', user: userId, roles: roles.map((role) => ({ role, anchor: { on: 'tenant' } })) }], `Let ${name} in`);
  };
  return (
    <>
      <Title order={2} size="h3" mt="xl">
        Asking to be let in
      </Title>
      <Grid
        label="Asking to be let in"
        columns={['Name', 'Address', 'What they say', '']}
        rows={data.items.map((request) => ({
          key: request.userId,
          cells: [
            request.name,
            <div key="address">
              {request.address}
              {!request.addressProven && (
                <Text size="sm" className="quiet">
                  not proven to be theirs
                </Text>
              )}
            </div>,
            request.words,
            <Group key="do" gap="xs">
              <RowButton action="member.invite" label={`Let ${request.name} in`} onClick={() => setAnswering(request)}>
                Let in
              </RowButton>
              <RowButton
                action="member.invite"
                variant="default"
                label={`Turn ${request.name} away`}
                onClick={() => change.show([{ do: 'turn-away', user: request.userId }], `Turn ${request.name} away`)}
              >
                Turn away
              </RowButton>
            </Group>,
          ],
        }))}
      />
      <Dialog opened={answering !== undefined} onClose={() => setAnswering(undefined)} title={`Let ${answering?.name ?? ''} in`}>
        {answering && (
          <>
            <RoleChoice label="Roles for the whole association" value={roles} onChange={setRoles} />
            <Button mt="md" onClick={() => letIn(answering)}>
              See what it does
            </Button>
          </>
        )}
      </Dialog>
    </>
  );
}
