import { Group, Title } from '@mantine/core';
import type { ReactNode } from 'react';
import { useInvitations } from 'warm-lintel/react';
import { RowButton } from './action.js';
import { rolesInWords } from './holding.js';
import { Grid } from './parts.js';
import { Trouble } from './trouble.js';

const MAIL = {
  waiting: 'message waiting to be sent',
  sent: 'message sent',
  'given up': 'message could not be sent',
  none: 'no message: hand over the link',
} as const;

/** Whoever is invited and has not come yet. */
export function Invited(): ReactNode {
  const { items, error, sendAgain, withdraw } = useInvitations();
  const pending = items?.filter(({ status }) => status === 'pending' || status === 'expired');
  return (
    <>
      <Title order={2} size="h3" mt="xl">
        Invited
      </Title>
      <Trouble error={error} />
      {pending?.length === 0 && <p className="empty">Nobody is invited at the moment.</p>}
      {pending && pending.length > 0 && (
        <Grid
          label="Invited"
          columns={['Address', 'Roles', 'Where it stands', '']}
          rows={pending.map(({ id, address, roles, status, mail, expiresAt }) => ({
            key: id,
            cells: [
              address,
              rolesInWords(roles),
              `${status}, ${MAIL[mail]}, until ${expiresAt.slice(0, 10)}`,
              <Group key="do" gap="xs">
                <RowButton action="member.invite" label={`Send again to ${address}`} onClick={() => void sendAgain(id)}>
                  Send again
                </RowButton>
                <RowButton action="member.invite" variant="default" label={`Withdraw ${address}`} onClick={() => void withdraw(id)}>
                  Withdraw
                </RowButton>
              </Group>,
            ],
          }))}
        />
      )}
    </>
  );
}
