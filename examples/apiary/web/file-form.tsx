import { Alert, Button, FileInput, Group, Stack, Table, Text } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { useChanged } from 'warm-lintel/react';
import { client } from './api.js';
import { Trouble, useTry } from './trouble.js';

interface Answer {
  problems: readonly { line: number; column?: string; words: string }[];
  invited?: number;
  changed?: number;
  handed?: number;
  same?: number;
  refused?: readonly { address?: string; record?: string; words: string }[];
}

/** A list of people as CSV: members get what they do not have, others are invited. */
export function PeopleFileForm({ tenant }: { tenant: string }): ReactNode {
  const send = (csv: string, dryRun: boolean) => client.bringPeople({ tenant, csv, dryRun });
  const told = ({ invited, changed, same, refused }: Answer) => `${invited} invited, ${changed} changed, ${same} as they are, ${refused?.length} refused.`;
  return (
    <FileForm send={send} told={told} done={useChanged()}>
      The first line names the columns: <code>address</code>, and where you want them <code>name</code>, <code>roles</code>, <code>groups</code>,{' '}
      <code>units</code>, <code>until</code>. Members get what they do not have, others are invited. Nothing is taken away.
    </FileForm>
  );
}

/** A list of records and whose they are from now on, as CSV. */
export function OwnersFileForm({ tenant, kind, done }: { tenant: string; kind: string; done: () => void }): ReactNode {
  const send = (csv: string, dryRun: boolean) => client.bringOwners({ tenant, kind, csv, dryRun });
  const told = ({ handed, same, refused }: Answer) => `${handed} handed over, ${same} as they are, ${refused?.length} refused.`;
  return (
    <FileForm send={send} told={told} done={done}>
      The first line names the columns: <code>record</code>, by its id, and <code>owner</code>, a member by address, id or name; empty is nobody. Each is handed
      over by the rules that count for you.
    </FileForm>
  );
}

interface FileFormProps {
  readonly send: (csv: string, dryRun: boolean) => Promise<Answer>;
  readonly told: (answer: Answer) => string;
  readonly done: () => void;
  readonly children: ReactNode;
}

/** A list as CSV: what is wrong with it, what it would do, and then that it is done. */
function FileForm({ send: ask, told, done, children }: FileFormProps): ReactNode {
  const [csv, setCsv] = useState('');
  const [answer, setAnswer] = useState<Answer>();
  const [carried, setCarried] = useState(false);
  const { error, busy, run } = useTry();
  const send = (text: string, dryRun: boolean) =>
    run(async () => {
      setAnswer(await ask(text, dryRun));
      setCarried(!dryRun);
      if (!dryRun) done();
    });
  const choose = (file: File | null) => {
    setAnswer(undefined);
    setCarried(false);
    void file?.text().then((text) => {
      setCsv(text);
      send(text, true);
    });
  };
  const isSound = answer !== undefined && answer.problems.length === 0;
  const rows = answer
    ? [
        ...answer.problems.map((one) => [`${one.line}`, one.column ?? '', one.words]),
        ...(answer.refused ?? []).map((one) => ['', one.address ?? one.record ?? '', one.words]),
      ]
    : [];
  return (
    <Stack>
      <Text size="sm">{children}</Text>
      <FileInput label="A list as CSV" placeholder="Choose a file" accept=".csv,text/csv" onChange={choose} disabled={busy} />
      <Trouble error={error} />
      <div aria-live="polite">
        {answer && !isSound && (
          <Alert color="red">{answer.problems.length === 1 ? '1 mistake' : `${answer.problems.length} mistakes`}; nothing was done.</Alert>
        )}
        {isSound && <Alert color="honey">{carried ? `Done: ${told(answer)}` : `It would be so; nothing was done yet: ${told(answer)}`}</Alert>}
      </div>
      {rows.length > 0 && (
        <div className="scroll">
          <Table aria-label="What is wrong">
            <Table.Thead>
              <Table.Tr>
                {isSound || <Table.Th>Line</Table.Th>}
                <Table.Th>Where</Table.Th>
                <Table.Th>What is wrong</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {rows.map(([line, where, words]) => (
                <Table.Tr key={`${line} ${where} ${words}`}>
                  {isSound || <Table.Td>{line}</Table.Td>}
                  <Table.Td>{where}</Table.Td>
                  <Table.Td>{words}</Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </div>
      )}
      {isSound && !carried && (
        <Group>
          <Button loading={busy} onClick={() => send(csv, false)}>
            Carry it out
          </Button>
        </Group>
      )}
    </Stack>
  );
}
