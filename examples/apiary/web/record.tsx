import { Button, Text, Title } from '@mantine/core';
import { type ReactNode, useEffect, useState } from 'react';
import { call, type Listed, Refusal, useLoad } from './api.js';
import type { MemberRow } from './members.js';
import { NotOpen } from './not-open.js';
import { Grid, PeopleTabs } from './parts.js';

interface Event {
  number: number;
  at: string;
  actor: string | null;
  what: string;
  event: Record<string, unknown>;
  words: Record<string, string> | null;
}

/** The record of changes, the newest first. */
export function RecordPage({ tenant }: { tenant: string }): ReactNode {
  const at = `/lintel/tenants/${tenant}`;
  const members = useLoad<Listed<MemberRow>>(`${at}/members?limit=200`);
  const [pages, setPages] = useState<Listed<Event>[]>([]);
  const [error, setError] = useState<Refusal>();
  const next = pages.at(-1)?.next;
  const load = (after?: string) =>
    call<Listed<Event>>('GET', `${at}/audit?limit=30${after ? `&after=${after}` : ''}`).then(
      (page) => setPages((before) => (after ? [...before, page] : [page])),
      (reason: unknown) => reason instanceof Refusal && setError(reason),
    );
  // biome-ignore lint/correctness/useExhaustiveDependencies: loaded once for each address
  useEffect(() => void load(), [at]);
  if (error) return <NotOpen tenant={tenant} title="Record of changes" error={error} />;
  const names = new Map(members.data?.items.map(({ userId, name }) => [userId, name]));
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Title order={1}>Record of changes</Title>
      <Grid
        label="Record of changes"
        columns={['What', 'Who', 'When', 'No.', 'Details']}
        rows={pages
          .flatMap(({ items }) => items)
          .map(({ number, at: when, actor, what, event, words }) => ({
            key: String(number),
            cells: [
              what,
              actor === null ? '' : (names.get(actor) ?? actor),
              when.slice(0, 16).replace('T', ' '),
              number,
              <div key="details">
                {words && Object.values(words).length > 0 && <Text size="sm">{Object.values(words).join(', ')}</Text>}
                <small>{JSON.stringify(event).replaceAll(',"', ', "')}</small>
              </div>,
            ],
          }))}
      />
      {next && (
        <Button mt="md" variant="light" onClick={() => void load(next)}>
          Show earlier ones
        </Button>
      )}
    </>
  );
}
