import { Button, Group, Text } from '@mantine/core';
import { type ReactNode, useEffect, useState } from 'react';
import type { Snapshot } from 'warm-lintel';
import { useStanding } from 'warm-lintel/react';
import { client, TRIED, type Tried } from './api.js';

/** Looks as somebody else in this tab from now on, and begins where they would. */
export async function beginLook(tenant: string, as: { user: string; tries?: boolean }): Promise<void> {
  const { id } = await client.lookAs({ tenant, ...as });
  sessionStorage.setItem(`look ${tenant}`, id);
  window.location.assign(`/t/${tenant}`);
}

async function endLook(tenant: string, id: string): Promise<void> {
  await client.endLook({ tenant, look: id }).catch(() => undefined);
  sessionStorage.removeItem(`look ${tenant}`);
  window.location.assign(`/t/${tenant}/members`);
}

/** Says, as long as it is so, that the page is seen as somebody else sees it; and what came of what was tried. */
export function LookBar({ tenant }: { tenant: string }): ReactNode {
  const { me, look } = useStanding().facts as Snapshot;
  const [tried, setTried] = useState<Tried>();
  useEffect(() => {
    const told = (event: Event) => setTried((event as CustomEvent<Tried>).detail);
    window.addEventListener(TRIED, told);
    return () => window.removeEventListener(TRIED, told);
  }, []);
  if (!look) return null;
  return (
    <div className="viewing" role="status">
      <Group justify="space-between">
        <Text size="sm">
          {look.by.name} looks as <strong>{me.name}</strong>. {look.tries ? 'What is sent here is tried as them, and taken back.' : 'Nothing can be changed.'}{' '}
          What {look.by.name} may not see is not shown.
        </Text>
        <Button size="compact-sm" variant="default" onClick={() => void endLook(tenant, look.id)}>
          Look as yourself again
        </Button>
      </Group>
      {tried && (
        <Text size="sm" mt={4}>
          {tried.refused === undefined
            ? `Tried: as ${me.name} it would have been done. It was taken back.`
            : `Tried: ${me.name} would have been told “${tried.refused}”.`}
        </Text>
      )}
    </div>
  );
}
