import { Button, Group, Stack, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useEffect, useState } from 'react';
import type { Answered } from 'warm-lintel/client';
import { useAppeals, useRead } from 'warm-lintel/react';
import { ProposalView } from './change.js';
import { Dialog, Grid, PeopleTabs } from './parts.js';
import { Trouble } from './trouble.js';

function RemedyChoice({ remedy, choose }: { remedy: Remedy; choose: () => void }): ReactNode {
  const { words, opens, refused, change, proposal } = remedy;
  const count = (n: number, one: string) => `${n} ${n === 1 ? one : `${one}s`}`;
  const size = opens && `opens ${count(opens.permissions, 'permission')}, on ${count(opens.records, 'record')}`;
  return (
    <li>
      <Group justify="space-between" wrap="nowrap">
        <Text fw={600}>{words}</Text>
        {refused === undefined && (
          <Button size="compact-sm" variant="light" style={{ flexShrink: 0 }} onClick={choose} aria-label={`Do this: ${words}`}>
            Do this
          </Button>
        )}
      </Group>
      <Text size="sm" className="quiet">
        {refused ? `Not yours to make: ${refused}` : change ? 'Changes the record, and nothing of what people hold' : size}
      </Text>
      {proposal && (
        <details>
          <summary>What it does</summary>
          <ProposalView proposal={proposal} />
        </details>
      )}
    </li>
  );
}

type Waiting = Answered<'listAppeals'>['items'][number];
type Remedy = Answered<'appealRemedies'>['remedies'][number];

/** One appeal with what would allow it, to agree to or decline. */
function Answering({ appeal, done }: { appeal: Waiting; done: () => void }): ReactNode {
  const found = useRead('appealRemedies', { appeal: appeal.id });
  const { agree, decline, busy, error } = useAppeals(done);
  const [reason, setReason] = useState('');
  const said = { ...(reason && { reason }) };
  const agreeTo = ({ proposal, change }: Pick<Remedy, 'proposal' | 'change'> = {}) =>
    agree(appeal.id, { ...(proposal && { proposal }), ...(change && { change }), ...said });
  return (
    <>
      {appeal.words && <Text fs="italic">“{appeal.words}”</Text>}
      <TextInput label="A word to them" value={reason} onChange={(event) => setReason(event.currentTarget.value)} maxLength={500} my="sm" />
      {found.error && <Text>You do not see this record yourself, so you can only decline, or leave it to somebody who does.</Text>}
      {found.data?.allowed && (
        <Group>
          <Text>They may do it by now.</Text>
          <Button onClick={() => agreeTo()}>Tell them</Button>
        </Group>
      )}
      {found.data?.cause && <Text>It is not allowed: {found.data.cause}.</Text>}
      {found.data && found.data.remedies.length > 0 && (
        <ol aria-label="What would allow it">
          {found.data.remedies.map((remedy) => (
            <RemedyChoice key={remedy.words} remedy={remedy} choose={() => agreeTo(remedy)} />
          ))}
        </ol>
      )}
      <Trouble error={error} />
      <Button variant="default" loading={busy} onClick={() => decline(appeal.id, reason || undefined)}>
        Decline
      </Button>
    </>
  );
}

const day = (moment: string) => moment.slice(0, 10);

/** What others ask for and this person may answer, and what they asked for themselves. */
export function AppealsPage({ tenant }: { tenant: string }): ReactNode {
  const { waiting, mine, withdraw, error } = useAppeals();
  const [answering, setAnswering] = useState<Waiting>();
  useEffect(() => {
    document.title = 'Asked for – Apiary';
  }, []);
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Title order={1}>Asked for</Title>
      <Trouble error={error} />
      {waiting.items?.length === 0 && <p className="empty">Nobody waits for an answer of yours.</p>}
      {waiting.items && waiting.items.length > 0 && (
        <Grid
          label="Asked for by others"
          columns={['Who', 'What', 'On', 'Since', '']}
          rows={waiting.items.map((appeal) => ({
            key: appeal.id,
            cells: [
              appeal.name,
              appeal.what,
              appeal.record ?? 'something that you do not see',
              day(appeal.raisedAt),
              <Button key="answer" size="compact-sm" variant="light" onClick={() => setAnswering(appeal)} aria-label={`Answer ${appeal.name}: ${appeal.what}`}>
                See what would allow it
              </Button>,
            ],
          }))}
        />
      )}
      <Title order={2} size="h3" mt="xl">
        What I asked for
      </Title>
      {mine.items?.length === 0 && <p className="empty">Nothing yet. Where something is refused to you on a page, you can ask for it there.</p>}
      <Stack gap={4} component="ul">
        {mine.items?.map(({ id, action, recordId, status, reason, raisedAt, expiresAt }) => (
          <li key={id}>
            {day(raisedAt)} · {action} · {recordId}: <strong>{status}</strong>
            {reason && ` – “${reason}”`}
            {status === 'open' && (
              <>
                , until {day(expiresAt)}{' '}
                <Button size="compact-sm" variant="subtle" onClick={() => void withdraw(id)} aria-label={`Take back: ${action} ${recordId}`}>
                  Take it back
                </Button>
              </>
            )}
          </li>
        ))}
      </Stack>
      <Dialog
        opened={answering !== undefined}
        onClose={() => setAnswering(undefined)}
        title={answering ? `${answering.name} asks for: ${answering.what}${answering.record ? `, on ${answering.record}` : ''}` : ''}
        size="lg"
      >
        {answering && <Answering appeal={answering} done={() => setAnswering(undefined)} />}
      </Dialog>
    </>
  );
}
