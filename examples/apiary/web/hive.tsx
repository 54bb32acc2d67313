import { Badge, Button, Group, NativeSelect, NumberInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, type ReactNode, useEffect, useState } from 'react';
import type { TypesIn } from 'warm-lintel';
import { IfAllowed, useStanding } from 'warm-lintel/react';
import { Link, useLocation } from 'wouter';
import type { charter } from '../world/charter.js';
import { Actions } from './actions.js';
import { call, type Hive, type Named, useLoad } from './api.js';
import { HeldHere, Linked } from './hive-people.js';
import { type Inspection, Inspections } from './inspections.js';
import { Journal } from './journal.js';
import { Trouble, useTry } from './trouble.js';

interface HiveAnswer {
  hive: Hive;
  draft: object;
  inspections: Inspection[];
  people: Named[];
  sites: Named[];
}

export function HivePage({ tenant, id }: { tenant: string; id: string }): ReactNode {
  const path = `/api/t/${tenant}/hives/${encodeURIComponent(id)}`;
  const { data, error, reload } = useLoad<HiveAnswer>(path);
  const attempt = useTry();
  const [, go] = useLocation();
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
  const send = (method: string, to: string, body?: object) =>
    attempt.run(async () => {
      await call(method, path + to, body);
      finished();
    });
  const remove = () =>
    attempt.run(async () => {
      await call('DELETE', path);
      // Where it was only tried it is still there.
      if (standing.facts.look) finished();
      else go(`/t/${tenant}/hives`);
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
        <dl className="facts">
          <dt className="quiet">Keeper</dt>
          <dd>{hive.keeperId === null ? 'nobody’s' : (keeper ?? 'a former member or somebody else')}</dd>
          <dt className="quiet">Site</dt>
          <dd>{sites.find((s) => s.id === hive.siteId)?.name ?? '–'}</dd>
          <dt className="quiet">Colonies</dt>
          <dd>{hive.colonies}</dd>
          {'registrationNo' in hive && (
            <>
              <dt className="quiet">Registration</dt>
              <dd>{hive.registrationNo ?? 'none yet'}</dd>
            </>
          )}
        </dl>
        <Actions
          record={hive}
          acts={[
            { action: 'hive.update', label: 'Change', onClick: () => setDoing(doing === 'edit' ? undefined : 'edit') },
            ...(hive.keeperId === null && standing.userId
              ? [{ action: 'hive.update', label: 'Take it', variant: 'light' as const, onClick: () => send('POST', '/keeper', { to: standing.userId }) }]
              : []),
            { action: 'hive.transfer', label: 'Hand over', variant: 'light', onClick: () => setDoing(doing === 'hand over' ? undefined : 'hand over') },
            {
              action: 'hive.archive',
              label: hive.status === 'archived' ? 'Bring back' : 'Archive',
              variant: 'light',
              onClick: () => send('POST', '/archive', { archived: hive.status !== 'archived' }),
            },
            { action: 'hive.delete', label: 'Delete', variant: 'default', onClick: remove },
          ]}
        />
        <Trouble error={attempt.error} />
        {doing === 'edit' && <EditHive path={path} hive={hive} sites={sites} done={finished} />}
        {doing === 'hand over' && <HandOver people={people.filter((p) => p.id !== hive.keeperId)} onChoose={(to) => send('POST', '/keeper', { to })} />}
      </div>
      <Inspections path={path} draft={data.draft} inspections={data.inspections} done={finished} />
      <Linked list="inspectors" action="hive.appoint" hive={hive} ids={hive.inspectors} people={people} send={send} />
      <Linked list="followers" action="hive.follow" hive={hive} ids={hive.followers} people={people} send={send} />
      <IfAllowed action="member.assign">
        <HeldHere hive={hive} people={people} />
      </IfAllowed>
      <Journal key={changes} about={{ kind: 'hive', record: id }} title="What was done" people={people} />
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
