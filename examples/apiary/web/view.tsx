import { Button, Group, Text } from '@mantine/core';
import type { ReactNode } from 'react';
import type { Snapshot } from 'warm-lintel';
import { useStanding } from 'warm-lintel/react';
import { call } from './api.js';

/** Looks as somebody else in this tab from now on, and begins where they would. */
export async function beginView(tenant: string, as: object): Promise<void> {
  const { id } = await call<{ id: string }>('POST', `/lintel/tenants/${tenant}/views`, as);
  sessionStorage.setItem(`view ${tenant}`, id);
  window.location.assign(`/t/${tenant}`);
}

async function endView(tenant: string, id: string): Promise<void> {
  await call('DELETE', `/lintel/tenants/${tenant}/views/${id}`).catch(() => undefined);
  sessionStorage.removeItem(`view ${tenant}`);
  window.location.assign(`/t/${tenant}/members`);
}

/** Says, as long as it is so, that the page is seen as somebody else sees it. */
export function ViewBar({ tenant }: { tenant: string }): ReactNode {
  const { me, view } = useStanding().facts as Snapshot;
  if (!view) return null;
  return (
    <Group className="viewing" role="status" justify="space-between">
      <Text size="sm">
        {view.by.name} looks as <strong>{me.name}</strong>. Nothing can be changed, and what {view.by.name} may not see is not shown.
      </Text>
      <Button size="compact-sm" variant="default" onClick={() => void endView(tenant, view.id)}>
        Look as yourself again
      </Button>
    </Group>
  );
}
