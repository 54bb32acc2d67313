import { Button, Group, NativeSelect, Text, TextInput } from '@mantine/core';
import { type FormEvent, type ReactNode, useState } from 'react';
import type { Charter } from 'warm-lintel';
import type { Answered } from 'warm-lintel/client';
import { useChange, useClient, useStanding, useTenant, useWhy } from 'warm-lintel/react';
import { Changing } from './change.js';
import { Trouble, useTry } from './trouble.js';

/** The kind of which a record is named with an action; undefined where it is about none that there is. */
function kindNamed(charter: Charter<any>, action: string): string | undefined {
  const { kind, action: name } = charter.permission(action);
  return name === 'create' ? undefined : kind;
}

const HOLDS = { yes: 'extends to it', no: 'does not extend to it', 'not loaded': 'rests on what you may not know' } as const;

function Grants({ grants }: { grants: Answered<'why'>['grants'] }): ReactNode {
  if (grants.length === 0) return null;
  return (
    <ul>
      {grants.map(({ by, where, holds, failed }) => (
        <li key={`${by} ${where}`}>
          {by}
          {where !== 'always' && `, where ${where}`}: <strong>{HOLDS[holds]}</strong>
          {failed.length > 0 && <span className="quiet"> ({failed.join('; ')})</span>}
        </li>
      ))}
    </ul>
  );
}

/** Why somebody may, or may not, as the command says it. */
export function Why({ about }: { about: { action: string; record?: string; user?: string } }): ReactNode {
  const { data, error } = useWhy(about);
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const { who, action, record, allowed, reason, grants, readGrants, ask } = data;
  const may = allowed === 'unknown' ? 'may or may not' : allowed ? 'may' : 'may not';
  return (
    <div className="sheet" role="status">
      <Text fw={600}>
        {who.name} {may} {action.label.toLowerCase()}
        {record ? `: ${record.label}` : ''}
      </Text>
      <Text size="sm">Because {reason}.</Text>
      <Grants grants={grants} />
      {readGrants.length > 0 && <Text size="sm">To do so they must be able to see it:</Text>}
      <Grants grants={readGrants} />
      {ask.length > 0 && <Text size="sm">It can be changed by {ask.join(', ')}.</Text>}
    </div>
  );
}

type Found = Answered<'remedies'>;

/** Each smallest change that would allow it, with what else it would open; it is shown before it is carried out. */
function WhatWouldGiveIt(props: { about: { action: string; record?: string; user: string }; done: () => void }): ReactNode {
  const { about, done } = props;
  const { action, record, user } = about;
  const [found, setFound] = useState<Found>();
  const client = useClient();
  const tenant = useTenant();
  const asking = useTry();
  const change = useChange(() => {
    setFound(undefined);
    done();
  });
  const { charter } = useStanding();
  // About a record there is something to try only when it is named.
  if (kindNamed(charter, action) !== undefined && record === undefined) return null;
  const look = () => asking.run(async () => setFound(await client.remedies({ tenant, user, action, record })));
  return (
    <>
      <Button mt="sm" size="compact-sm" variant="light" loading={asking.busy} onClick={look}>
        What would give it
      </Button>
      <Trouble error={asking.error} />
      {found?.allowed && <Text size="sm">They may already.</Text>}
      {found?.cause && <Text size="sm">Nothing that they hold: {found.cause}.</Text>}
      {found && !found.allowed && !found.cause && found.remedies.length === 0 && <Text size="sm">Nothing that was tried would change it.</Text>}
      <ul>
        {found?.remedies.map(({ words, steps, refused, opens }) => (
          <li key={words}>
            {words}
            <span className="quiet">
              {refused
                ? `: not yours to make. ${refused}`
                : opens
                  ? `, opens ${opens.permissions} permissions on ${opens.records} records`
                  : ', in the record itself'}
            </span>{' '}
            {steps && !refused && (
              <Button size="compact-xs" variant="default" onClick={() => change.show(steps, words)}>
                Do this
              </Button>
            )}
          </li>
        ))}
      </ul>
      <Changing change={change} />
    </>
  );
}

/** Asks why a member may, or may not: any action, on a record by its id or on none. */
export function AskWhy({ user }: { user: string }): ReactNode {
  const { charter } = useStanding();
  const [action, setAction] = useState('hive.update');
  const [record, setRecord] = useState('');
  const [about, setAbout] = useState<{ action: string; record?: string; user: string }>();
  const [changes, setChanges] = useState(0);
  const kind = kindNamed(charter, action);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setAbout({ action, user, ...(kind !== undefined && record !== '' && { record }) });
  };
  return (
    <form onSubmit={submit} style={{ marginTop: '1.5rem' }}>
      <Group align="flex-end" mb="sm">
        <NativeSelect
          label="Why may they, or may they not"
          value={action}
          onChange={(event) => setAction(event.currentTarget.value)}
          data={[...charter.permissions.values()].map((one) => ({ value: one.name, label: `${one.section}: ${one.label}` }))}
        />
        {kind !== undefined && (
          <TextInput label={`Id of the ${charter.kind(kind).one}`} value={record} onChange={(event) => setRecord(event.currentTarget.value)} />
        )}
        <Button type="submit" variant="light">
          Ask
        </Button>
      </Group>
      {about && <Why key={changes} about={about} />}
      {about && <WhatWouldGiveIt key={JSON.stringify(about)} about={about} done={() => setChanges(changes + 1)} />}
    </form>
  );
}
