import { Button, Group, Text, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { RowButton } from './action.js';
import { type Listed, useLoad } from './api.js';
import type { useChange } from './change.js';
import type { RoleToGive } from './members.js';
import { Dialog, Grid, RoleChoice } from './parts.js';

interface RequestRow {
  userId: string;
  name: string;
  address: string;
  addressProven: boolean;
  words: string | null;
}

/** Who asks to be let in, for whoever may answer. */
export function Requests(props: { tenant: string; toGive: readonly RoleToGive[]; ask: ReturnType<typeof useChange>['ask'] }): ReactNode {
  const { tenant, toGive, ask } = props;
  const { data } = useLoad<Listed<RequestRow>>(`/lintel/tenants/${tenant}/requests`);
  const [answering, setAnswering] = useState<RequestRow>();
  const [roles, setRoles] = useState<string[]>([]);
  if (!data || data.items.length === 0) return null;
  const letIn = ({ userId, name }: RequestRow) => {
    setAnswering(undefined);
    ask(`Let ${name} in`, [{ do: 'let-in', user: userId, roles: roles.map((role) => ({ role, anchor: { on: 'tenant' } })) }]);
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
                onClick={() => ask(`Turn ${request.name} away`, [{ do: 'turn-away', user: request.userId }])}
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
            <RoleChoice label="Roles for the whole association" value={roles} onChange={setRoles} toGive={toGive} />
            <Button mt="md" onClick={() => letIn(answering)}>
              See what it does
            </Button>
          </>
        )}
      </Dialog>
    </>
  );
}
