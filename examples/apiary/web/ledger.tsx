import { Badge, Button, Group, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useState } from 'react';
import { ActionButton, Refused, RowButton } from './action.js';
import { call, type Named, useLoad } from './api.js';
import { Grid } from './parts.js';
import { Trouble, useTry } from './trouble.js';

interface Entry {
  id: string;
  madeBy: string;
  purpose: string;
  amount: string;
  status: 'draft' | 'booked';
}

/** The honey ledger: whoever writes an entry does not book it. */
export function LedgerPage({ tenant }: { tenant: string }): ReactNode {
  const path = `/api/t/${tenant}/ledger`;
  const { data, error, reload } = useLoad<{ entries: Entry[]; people: Named[] }>(path);
  const [doing, setDoing] = useState<'write' | Entry>();
  const booking = useTry();
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const finished = () => {
    setDoing(undefined);
    reload();
  };
  const book = (id: string) => booking.run(async () => call('POST', `${path}/${id}/book`, {}).then(finished));
  const drafts = data.entries.filter(({ status }) => status === 'draft');
  return (
    <>
      <div className="head">
        <Title order={1}>Ledger</Title>
        <ActionButton action="entry.create" onClick={() => setDoing('write')}>
          Write an entry
        </ActionButton>
      </div>
      <Trouble error={booking.error} />
      {doing && <EntryForm key={doing === 'write' ? '' : doing.id} path={path} entry={doing === 'write' ? undefined : doing} done={finished} />}
      {data.entries.length === 0 && <Text mt="md">There is no entry yet that is open to you.</Text>}
      <Grid
        label="Ledger"
        columns={['What for', 'Amount', 'Written by', 'Status', '']}
        rows={data.entries.map((entry) => ({
          key: entry.id,
          cells: [
            entry.purpose,
            entry.amount,
            data.people.find(({ id }) => id === entry.madeBy)?.name ?? 'somebody',
            <Badge key="status" color={entry.status === 'booked' ? 'gray.7' : 'honey.9'} variant="outline">
              {entry.status}
            </Badge>,
            <Group key="do" gap="xs">
              <RowButton action="entry.update" record={entry} label={`Correct: ${entry.purpose}`} onClick={() => setDoing(entry)}>
                Correct
              </RowButton>
              {entry.status === 'draft' && (
                <RowButton action="entry.book" record={entry} label={`Book: ${entry.purpose}`} variant="filled" onClick={() => book(entry.id)}>
                  Book
                </RowButton>
              )}
            </Group>,
          ],
        }))}
      />
      {drafts[0] && <Refused actions={['entry.book']} record={drafts[0]} />}
    </>
  );
}

function EntryForm({ path, entry, done }: { path: string; entry: Entry | undefined; done: () => void }): ReactNode {
  const [purpose, setPurpose] = useState(entry?.purpose ?? '');
  const [amount, setAmount] = useState(entry?.amount ?? '');
  const { error, busy, run } = useTry();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    run(async () => {
      await call(entry ? 'PATCH' : 'POST', entry ? `${path}/${entry.id}` : path, { purpose, amount });
      done();
    });
  };
  return (
    <form onSubmit={submit} className="sheet" style={{ marginTop: '1rem' }}>
      <Group align="flex-end">
        <TextInput
          label="What for"
          required
          data-autofocus
          style={{ flex: '1 1 16rem' }}
          value={purpose}
          onChange={(event) => setPurpose(event.currentTarget.value)}
        />
        <TextInput
          label="Amount"
          description="12.50, or -12.50 for what was spent"
          required
          inputMode="decimal"
          value={amount}
          onChange={(event) => setAmount(event.currentTarget.value)}
        />
        <Button type="submit" loading={busy}>
          {entry ? 'Correct' : 'Write it down'}
        </Button>
      </Group>
      <Trouble error={error} />
    </form>
  );
}
