import { Badge, Button, NativeSelect, NumberInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, Fragment, type ReactNode, useState } from 'react';
import { IfAllowed, useDecision } from 'warm-lintel/react';
import { Link, useLocation } from 'wouter';
import { ActionButton } from './action.js';
import { call, type Hive, type Named, useLoad } from './api.js';
import { OwnersFileForm } from './file-form.js';
import { Dialog, Grid } from './parts.js';
import { Trouble, useTry } from './trouble.js';

interface Hives {
  hives: Hive[];
  people: Named[];
  sites: Named[];
}

export function HivesPage({ tenant }: { tenant: string }): ReactNode {
  const { data, error, reload } = useLoad<Hives>(`/api/t/${tenant}/hives`);
  const [adding, setAdding] = useState(false);
  const [listing, setListing] = useState(false);
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const nameOf = (all: Named[], id: string | null) => all.find((item) => item.id === id)?.name;
  return (
    <>
      <div className="head">
        <Title order={1}>Hives</Title>
        <div className="actions">
          {/* Whoever sees the members names them in a list. */}
          <IfAllowed action="area.members">
            <ActionButton action="hive.transfer" variant="light" onClick={() => setListing(true)}>
              Keepers from a list
            </ActionButton>
          </IfAllowed>
          <ActionButton action="hive.create" onClick={() => setAdding(true)}>
            Add a hive
          </ActionButton>
        </div>
      </div>
      {data.hives.length === 0 ? (
        <Text mt="md">No hive is open to you yet.</Text>
      ) : (
        <Grid
          label="Hives"
          columns={['Name', 'Keeper', 'Site', 'Colonies', 'Yours to']}
          rows={data.hives.map((hive) => ({
            key: hive.id,
            cells: [
              <Fragment key="name">
                <Link href={`/t/${tenant}/hives/${hive.id}`}>{hive.name}</Link>{' '}
                {hive.status === 'archived' && (
                  <Badge color="gray.7" variant="outline" size="sm">
                    archived
                  </Badge>
                )}
              </Fragment>,
              hive.keeperId === null ? 'nobody’s' : (nameOf(data.people, hive.keeperId) ?? 'a former member or somebody else'),
              nameOf(data.sites, hive.siteId) ?? '–',
              hive.colonies,
              ['update', 'transfer', 'archive']
                .filter((action) => hive.may.includes(`hive.${action}`))
                .map((action) => ({ update: 'change', transfer: 'hand over', archive: 'archive' })[action])
                .join(', ') || 'look at',
            ],
          }))}
        />
      )}
      <Dialog opened={listing} onClose={() => setListing(false)} title="Keepers from a list" size="lg">
        <OwnersFileForm tenant={tenant} kind="hive" done={reload} />
      </Dialog>
      <Dialog opened={adding} onClose={() => setAdding(false)} title="Add a hive">
        <AddHive tenant={tenant} sites={data.sites} done={reload} />
      </Dialog>
    </>
  );
}

function AddHive({ tenant, sites, done }: { tenant: string; sites: Named[]; done: () => void }): ReactNode {
  const [, go] = useLocation();
  const { error, busy, run } = useTry();
  const [name, setName] = useState('');
  const [colonies, setColonies] = useState<number | string>(1);
  const [siteId, setSiteId] = useState('');
  const placing = useDecision('hive.move');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    run(async () => {
      const { id } = await call<{ id: string }>('POST', `/api/t/${tenant}/hives`, { name, colonies, ...(siteId && { siteId }) });
      done();
      go(`/t/${tenant}/hives/${id}`);
    });
  };
  return (
    <form onSubmit={submit}>
      <Stack>
        <TextInput label="Name" required data-autofocus value={name} onChange={(event) => setName(event.currentTarget.value)} />
        <NumberInput label="Colonies" min={1} max={20} value={colonies} onChange={setColonies} hideControls />
        {placing.allowed && (
          <NativeSelect
            label="Site"
            value={siteId}
            onChange={(event) => setSiteId(event.currentTarget.value)}
            data={[{ value: '', label: 'no site' }, ...sites.map((s) => ({ value: s.id, label: s.name }))]}
          />
        )}
        <Button type="submit" loading={busy}>
          Add
        </Button>
        <Trouble error={error} />
      </Stack>
    </form>
  );
}
