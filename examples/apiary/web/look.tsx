import { Button, Group, Text } from '@mantine/core';
import type { ReactNode } from 'react';
import type { Snapshot } from 'warm-lintel';
import { useStanding } from 'warm-lintel/react';
import { call } from './api.js';

/** Looks as somebody else in this tab from now on, and begins where they would. */
export async function beginLook(tenant: string, as: object): Promise<void> {
  const { id } = await call<{ id: string }>('POST', `/lintel/tenants/${tenant}/looks`, as);
  sessionStorage.setItem(`view ${tenant}`, id);
  window.location.assign(`/t/${tenant}`);
}

async function endLook(tenant: string, id: string): Promise<void> {
  await call('DELETE', `/lintel/tenants/${tenant}/looks/${id}`).catch(() => undefined);
  sessionStorage.removeItem(`view ${tenant}`);
  window.location.assign(`/t/${tenant}/members`);
}

/** Says, as long as it is so, that the page is seen as somebody else sees it. */
export function LookBar({ tenant }: { tenant: string }): ReactNode {
  const { me, look } = useStanding().facts as Snapshot;
  if (!look) return null;
  return (
    <Group className="viewing" role="status" justify="space-between">
      <Text size="sm">
        {look.by.name} looks as <strong>{me.name}</strong>. Nothing can be changed, and what {look.by.name} may not see is not shown.
      </Text>
      <Button size="compact-sm" variant="default" onClick={() => void endLook(tenant, look.id)}>
        Look as yourself again
      </Button>
    </Group>
  );
}
