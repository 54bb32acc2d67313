import { Text, Title } from '@mantine/core';
import type { ReactNode } from 'react';
import { useAudit, useMembers } from 'warm-lintel/react';
import { NotOpen } from './not-open.js';
import { Grid, PeopleTabs } from './parts.js';

/** The record of changes, the newest first. */
export function RecordPage({ tenant }: { tenant: string }): ReactNode {
  const members = useMembers();
  const { items, error, more } = useAudit({ limit: 30 });
  if (error) return <NotOpen tenant={tenant} title="Record of changes" error={error} />;
  const names = new Map(members.items?.map(({ userId, name }) => [userId, name]));
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Title order={1}>Record of changes</Title>
      <Grid
        label="Record of changes"
        columns={['What', 'Who', 'When', 'No.', 'Details']}
        rows={(items ?? []).map(({ number, at: when, actor, what, event, words, hash }) => ({
          key: hash,
          cells: [
            what,
            actor === null ? '' : (names.get(actor) ?? actor),
            <span key="when" className="when">
              {when.slice(0, 16).replace('T', ' ')}
            </span>,
            number,
            <div key="details">
              {words && Object.values(words).length > 0 && <Text size="sm">{Object.values(words).join(', ')}</Text>}
              <small>{JSON.stringify(event).replaceAll(',"', ', "')}</small>
            </div>,
          ],
        }))}
        more={more}
      />
    </>
  );
}
