import { Title } from '@mantine/core';
import type { ReactNode } from 'react';
import type { Refusal } from 'warm-lintel/client';
import { PeopleTabs } from './parts.js';
import { Trouble } from './trouble.js';

/** A page about people that is not open to somebody: it stands in its place and says why, as a button does. */
export function NotOpen({ tenant, title, error }: { tenant: string; title: string; error: Refusal }): ReactNode {
  if (error.status !== 403) return <Trouble error={error} />;
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Title order={1}>{title}</Title>
      <div className="why">{error.message}</div>
    </>
  );
}
