import { Button, Group, Table, Text, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { type Listed, useLoad } from './api.js';
import type { useChange } from './change.js';
import type { RoleToGive } from './members.js';
import { Dialog, RoleChoice } from './parts.js';

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
      <Table className="sheet" aria-label="Asking to be let in">
        <Table.Tbody>
          {data.items.map((request) => (
            <Table.Tr key={request.userId}>
              <Table.Td>{request.name}</Table.Td>
              <Table.Td>
                {request.address}
                {!request.addressProven && (
                  <Text size="sm" className="quiet">
                    not proven to be theirs
                  </Text>
                )}
              </Table.Td>
              <Table.Td>{request.words}</Table.Td>
              <Table.Td>
                <Group gap="xs">
                  <Button size="compact-sm" variant="light" onClick={() => setAnswering(request)} aria-label={`Let ${request.name} in`}>
                    Let in
                  </Button>
                  <Button
                    size="compact-sm"
                    variant="default"
                    onClick={() => ask(`Turn ${request.name} away`, [{ do: 'turn-away', user: request.userId }])}
                    aria-label={`Turn ${request.name} away`}
                  >
                    Turn away
                  </Button>
                </Group>
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
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
