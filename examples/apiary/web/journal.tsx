import { Button, Text, Title } from '@mantine/core';
import { Fragment, type ReactNode } from 'react';
import type { Answered } from 'warm-lintel/client';
import { useJournal, useStanding } from 'warm-lintel/react';
import type { Named } from './api.js';
import { Trouble } from './trouble.js';

type Entry = Answered<'journal'>['items'][number];

const PEOPLE = ['owner', 'maker', 'person', 'people'];

function Fields({ item: { kind, fields, erased, what }, people }: { item: Entry; people: readonly Named[] }): ReactNode {
  const known = useStanding().charter.kind(kind).fields;
  const written = (field: string, value: unknown): string => {
    if (Array.isArray(value)) return value.map((one) => written(field, one)).join(', ') || 'nobody';
    if (value === null) return 'nothing';
    const found = PEOPLE.includes(known[field]?.role ?? '') && people.find(({ id }) => id === value);
    return found ? found.name : String(value);
  };
  const named = (field: string) => known[field]?.label ?? field;
  const shown = Object.entries(fields).filter(([field]) => !['id', 'tenant', 'maker'].includes(known[field]?.role ?? ''));
  return (
    <>
      {shown.map(([field, { from, to }], i) => (
        <Fragment key={field}>
          {i > 0 && '; '}
          {named(field)} {what === 'made' ? written(field, to) : what === 'deleted' ? written(field, from) : `${written(field, from)} → ${written(field, to)}`}
        </Fragment>
      ))}
      {erased.map((field) => (
        <Fragment key={field}> {named(field)} was erased</Fragment>
      ))}
    </>
  );
}

/** What was done, to one record or by one member, as far as whoever reads it reaches the records. */
export function Journal(props: { about: { kind?: string; record?: string; person?: string }; title: string; people: readonly Named[] }): ReactNode {
  const { about, title, people } = props;
  const { items, error, more } = useJournal({ ...about, limit: 10 });
  const { charter } = useStanding();
  return (
    <section>
      <Title order={2} size="h3" mt="xl">
        {title}
      </Title>
      <Trouble error={error} />
      {items?.length === 0 && <Text className="quiet">Nothing was put down yet.</Text>}
      <ul className="journal">
        {items?.map((item) => (
          <li key={item.id}>
            <time dateTime={item.at}>
              {item.at.slice(0, 10)} {item.at.slice(11, 16)}
            </time>{' '}
            <strong>{item.by?.name ?? 'somebody'}</strong>
            {item.for && ` for ${item.for.name}`} {item.what === 'made' ? 'added' : item.what}{' '}
            {about.record === undefined && `${charter.kind(item.kind).one} ${item.label ?? item.record}`}
            <div className="quiet">
              <Fields item={item} people={people} />
            </div>
          </li>
        ))}
      </ul>
      {more && (
        <Button size="compact-sm" variant="default" onClick={more}>
          Show older
        </Button>
      )}
    </section>
  );
}
