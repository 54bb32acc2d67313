import { Badge, Button, Group, NativeSelect, NumberInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useEffect, useState } from 'react';
import type { TypesIn } from 'warm-lintel';
import { useStanding } from 'warm-lintel/react';
import { Link } from 'wouter';
import type { charter } from '../world/charter.js';
import { ActionButton } from './action.js';
import { call, type Hive, type Named, useLoad } from './api.js';
import { Journal } from './journal.js';
import { Trouble, useTry } from './trouble.js';

interface HiveAnswer {
  hive: Hive;
  inspections: { id: string; summary: string; heldAt: string }[];
  people: Named[];
  sites: Named[];
}

export function HivePage({ tenant, id }: { tenant: string; id: string }): ReactNode {
  const path = `/api/t/${tenant}/hives/${encodeURIComponent(id)}`;
  const { data, error, reload } = useLoad<HiveAnswer>(path);
  const attempt = useTry();
  const [changes, setChanges] = useState(0);
  const [doing, setDoing] = useState<'edit' | 'hand over'>();
  const standing = useStanding();
  useEffect(() => {
    if (data) document.title = `${data.hive.name} – Apiary`;
  }, [data]);
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const { hive, people, sites } = data;
  const finished = () => {
    setDoing(undefined);
    setChanges((before) => before + 1);
    reload();
  };
  const post = (to: string, body: object) =>
    attempt.run(async () => {
      await call('POST', `${path}/${to}`, body);
      finished();
    });
  const keeper = people.find((p) => p.id === hive.keeperId)?.name;
  return (
    <>
      <Link href={`/t/${tenant}/hives`}>All hives</Link>
      <div className="sheet" style={{ marginTop: '0.75rem' }}>
        <Group>
          <Title order={1}>{hive.name}</Title>
          {hive.status === 'archived' && (
            <Badge color="gray.7" variant="outline">
              archived
            </Badge>
          )}
        </Group>
        <dl style={{ display: 'grid', gridTemplateColumns: '10rem 1fr', rowGap: '0.35rem' }}>
          <dt className="quiet">Keeper</dt>
          <dd style={{ margin: 0 }}>{hive.keeperId === null ? 'nobody’s' : (keeper ?? 'a former member or somebody else')}</dd>
          <dt className="quiet">Site</dt>
          <dd style={{ margin: 0 }}>{sites.find((s) => s.id === hive.siteId)?.name ?? '–'}</dd>
          <dt className="quiet">Colonies</dt>
          <dd style={{ margin: 0 }}>{hive.colonies}</dd>
          {'registrationNo' in hive && (
            <>
              <dt className="quiet">Registration</dt>
              <dd style={{ margin: 0 }}>{hive.registrationNo ?? 'none yet'}</dd>
            </>
          )}
        </dl>
        <Group align="flex-start">
          <ActionButton action="hive.update" record={hive} onClick={() => setDoing(doing === 'edit' ? undefined : 'edit')}>
            Change
          </ActionButton>
          {hive.keeperId === null && standing.userId && (
            <ActionButton action="hive.update" record={hive} variant="light" onClick={() => post('keeper', { to: standing.userId })}>
              Take it
            </ActionButton>
          )}
          <ActionButton action="hive.transfer" record={hive} variant="light" onClick={() => setDoing(doing === 'hand over' ? undefined : 'hand over')}>
            Hand over
          </ActionButton>
          <ActionButton action="hive.archive" record={hive} variant="light" onClick={() => post('archive', { archived: hive.status !== 'archived' })}>
            {hive.status === 'archived' ? 'Bring back' : 'Archive'}
          </ActionButton>
        </Group>
        <Trouble error={attempt.error} />
        {doing === 'edit' && <EditHive path={path} hive={hive} sites={sites} done={finished} />}
        {doing === 'hand over' && <HandOver people={people.filter((p) => p.id !== hive.keeperId)} onChoose={(to) => post('keeper', { to })} />}
      </div>
      <Title order={2} size="h3" mt="xl">
        Inspections
      </Title>
      {data.inspections.length === 0 ? <Text className="quiet">None that are open to you.</Text> : null}
      <ul>
        {data.inspections.map((inspection) => (
          <li key={inspection.id}>
            <time dateTime={inspection.heldAt}>{inspection.heldAt.slice(0, 10)}</time> · {inspection.summary}
          </li>
        ))}
      </ul>
      <Journal key={changes} tenant={tenant} about={{ kind: 'hive', record: id }} title="What was done" />
    </>
  );
}

function EditHive({ path, hive, sites, done }: { path: string; hive: Hive; sites: Named[]; done: () => void }): ReactNode {
  const { error, busy, run } = useTry();
  const [name, setName] = useState(hive.name);
  const [colonies, setColonies] = useState<number | string>(hive.colonies);
  const [siteId, setSiteId] = useState(hive.siteId ?? '');
  const fields = useStanding<TypesIn<typeof charter>>().fields('hive.update', hive);
  // In a look that tries, what the person looked as could change.
  const isFixed = (field: string) => !fields[field]?.changeable && fields[field]?.could !== true;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    run(async () => {
      await call('PATCH', path, { name, colonies, ...(siteId !== (hive.siteId ?? '') && { siteId }) });
      done();
    });
  };
  return (
    <form onSubmit={submit}>
      <Stack mt="md" maw="24rem">
        <TextInput label="Name" required value={name} disabled={isFixed('name')} onChange={(event) => setName(event.currentTarget.value)} />
        <NumberInput label="Colonies" min={1} max={20} value={colonies} disabled={isFixed('colonies')} onChange={setColonies} hideControls />
        <NativeSelect
          label="Site"
          value={siteId}
          disabled={!hive.may.includes('hive.move') && isFixed('siteId')}
          description={isFixed('siteId') ? fields.siteId?.reason : undefined}
          onChange={(event) => setSiteId(event.currentTarget.value)}
          data={[{ value: '', label: 'no site' }, ...sites.map((s) => ({ value: s.id, label: s.name }))]}
        />
        <Button type="submit" loading={busy}>
          Save
        </Button>
        <Trouble error={error} />
      </Stack>
    </form>
  );
}

function HandOver({ people, onChoose }: { people: Named[]; onChoose: (id: string) => void }): ReactNode {
  const [to, setTo] = useState(people[0]?.id ?? '');
  return (
    <Stack mt="md" maw="24rem">
      <NativeSelect
        label="New keeper"
        value={to}
        onChange={(event) => setTo(event.currentTarget.value)}
        data={people.map((p) => ({ value: p.id, label: p.name }))}
      />
      <Text size="sm" className="quiet">
        Your own power over this hive ends with it, unless a role of yours reaches it otherwise.
      </Text>
      <Button onClick={() => onChoose(to)}>Hand over</Button>
    </Stack>
  );
}
