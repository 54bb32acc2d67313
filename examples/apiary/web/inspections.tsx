import { Button, Group, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useState } from 'react';
import { ActionButton, RowButton } from './action.js';
import { call } from './api.js';
import { Trouble, useTry } from './trouble.js';

export interface Inspection {
  id: string;
  hiveId: string;
  madeBy: string;
  summary: string;
  heldAt: string;
}

/**
 * What was seen at a hive, the newest first; written and corrected by whoever may.
 *
 * @param draft one that could be written here, with what this person may do with it.
 */
export function Inspections({ path, draft, inspections, done }: { path: string; draft: object; inspections: Inspection[]; done: () => void }): ReactNode {
  const [doing, setDoing] = useState<'write' | Inspection>();
  const finished = () => {
    setDoing(undefined);
    done();
  };
  return (
    <section aria-label="Inspections">
      <Title order={2} size="h3" mt="xl" mb="xs">
        Inspections
      </Title>
      {inspections.length === 0 ? <Text className="quiet">None that are open to you.</Text> : null}
      <ul className="lines">
        {inspections.map((inspection) => (
          <li key={inspection.id}>
            <time dateTime={inspection.heldAt}>{inspection.heldAt.slice(0, 10)}</time> · {inspection.summary}{' '}
            <RowButton action="inspection.update" record={inspection} label={`Correct: ${inspection.summary}`} onClick={() => setDoing(inspection)}>
              Correct
            </RowButton>
          </li>
        ))}
      </ul>
      <ActionButton action="inspection.create" record={draft} variant="light" onClick={() => setDoing(doing === 'write' ? undefined : 'write')}>
        Write an inspection
      </ActionButton>
      {doing && <InspectionForm key={doing === 'write' ? '' : doing.id} path={path} inspection={doing === 'write' ? undefined : doing} done={finished} />}
    </section>
  );
}

function InspectionForm({ path, inspection, done }: { path: string; inspection: Inspection | undefined; done: () => void }): ReactNode {
  const [summary, setSummary] = useState(inspection?.summary ?? '');
  const [heldAt, setHeldAt] = useState(new Date().toISOString().slice(0, 10));
  const { error, busy, run } = useTry();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    run(async () => {
      if (inspection) await call('PATCH', `${path}/inspections/${inspection.id}`, { summary });
      else await call('POST', `${path}/inspections`, { summary, heldAt });
      done();
    });
  };
  return (
    <form onSubmit={submit}>
      <Group mt="md" align="flex-end">
        <TextInput
          label="What was seen"
          required
          data-autofocus
          style={{ flex: '1 1 18rem' }}
          value={summary}
          onChange={(event) => setSummary(event.currentTarget.value)}
        />
        {!inspection && <TextInput type="date" label="On" required value={heldAt} onChange={(event) => setHeldAt(event.currentTarget.value)} />}
        <Button type="submit" loading={busy}>
          {inspection ? 'Correct' : 'Write it down'}
        </Button>
      </Group>
      <Trouble error={error} />
    </form>
  );
}
