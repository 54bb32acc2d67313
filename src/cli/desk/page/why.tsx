import { type ReactNode, useState } from 'react';
import type { ExplainedGrant, Explanation, Giver } from '../../../rehearsal/index.js';
import type { Remedies as Found, Remedy } from '../../../server/index.js';
import type { About, Person } from './about.js';
import { go, type Loaded, send, useAnswer } from './address.js';
import { Choice, Line, Sheet, Shown, Trouble } from './parts.js';

function Grants({ title, grants }: { title: string; grants: readonly ExplainedGrant[] }): ReactNode {
  if (grants.length === 0) return null;
  return (
    <section>
      <h2>{title}</h2>
      <Sheet title={title} head={['holds', 'reach', 'how it comes', 'its rule', 'what failed']}>
        {grants.map((grant) => (
          <tr key={`${grant.reach} ${grant.by}`}>
            <td className={grant.holds === 'yes' ? 'whole' : 'none'}>{grant.holds}</td>
            <td>{grant.reach}</td>
            <td>{grant.by}</td>
            <td>
              <code>{grant.where}</code>
            </td>
            <td>{grant.failed.join('; ') || '–'}</td>
          </tr>
        ))}
      </Sheet>
    </section>
  );
}

const effectOf = ({ opens, change, refused }: Remedy) => {
  if (refused !== undefined) return `not theirs to make: ${refused}`;
  if (change) return 'changes the record, and nothing of what people hold';
  return `opens ${opens?.permissions} ${opens?.permissions === 1 ? 'permission' : 'permissions'}${opens && opens.records > 0 ? `, on ${opens.records} ${opens.records === 1 ? 'record' : 'records'}` : ''}`;
};

export const sentence = (words: string) => `${words.charAt(0).toUpperCase()}${words.slice(1)}${/[.!?]$/.test(words) ? '' : '.'}`;

/** Changes that would make it allowed: each is seen before it is made, where somebody makes it. */
export function Remedies({
  found,
  make,
  making,
  records = false,
}: {
  found: Loaded<Found>;
  make?: (words: string) => Promise<unknown>;
  making: string;
  /** True: changes of the record itself can be made from here too. */
  records?: boolean;
}): ReactNode {
  const [chosen, setChosen] = useState<Remedy>();
  const [error, setError] = useState<string>();
  return (
    <>
      <Shown of={found}>
        {({ remedies, cause, decision }) => (
          <>
            {cause !== undefined && <p>{sentence(cause)} No change of what they hold takes that away.</p>}
            <ol className="remedies">
              {remedies.map((one) => (
                <li key={one.words}>
                  <strong>{one.words}</strong> <span className="quiet">{effectOf(one)}</span>{' '}
                  {make && (one.proposal || (records && one.change)) && (
                    <button type="button" onClick={() => setChosen(one)}>
                      See what it does
                    </button>
                  )}
                </li>
              ))}
            </ol>
            {remedies.length === 0 && cause === undefined && <p>{decision.allowed ? 'They may already.' : 'Nothing that was tried would change it.'}</p>}
          </>
        )}
      </Shown>
      {chosen && (
        <section className="proposal" aria-label="What it does">
          <h3>{chosen.words}</h3>
          {chosen.change && <p>{effectOf(chosen)}.</p>}
          {chosen.proposal?.effects.map(({ people: whom, permissions }) => (
            <ul key={whom.some.map(({ id }) => id).join()}>
              {permissions.map(({ permission, label, change, was, becomes, records }) => (
                <li key={permission}>
                  {whom.some.map(({ name }) => name).join(', ')} {change}: {label}, {was.join(', ') || 'not at all'} → {becomes.join(', ') || 'not at all'}
                  {records && `, ${records.was} → ${records.becomes} records`}
                </li>
              ))}
            </ul>
          ))}
          <button type="button" className="loud" onClick={() => void make?.(chosen.words).catch((failed: Error) => setError(failed.message))}>
            {making}
          </button>{' '}
          <button type="button" onClick={() => setChosen(undefined)}>
            Leave it
          </button>
          {error !== undefined && <Trouble error={error} />}
        </section>
      )}
    </>
  );
}

/** What would make it allowed: looked at as somebody who may make it, and made in their name. */
function Mend({
  about,
  people,
  query,
  done,
}: {
  about: About;
  people: readonly Person[];
  query: Readonly<Record<string, string>>;
  done: () => void;
}): ReactNode {
  const [as, setAs] = useState('');
  const found = useAnswer<Found>('remedies', { ...query, as });
  const make = (words: string) => send('carry-out', { ...query, as, words }).then(done);
  return (
    <section>
      <h2>What would give it</h2>
      {about.has.membership && (
        <Choice label="In the name of" value={as} none="nobody: only look" onChange={setAs} options={people.map(({ id, name }) => ({ id, label: name }))} />
      )}
      <Remedies key={as} found={found} {...(as !== '' && { make })} making="Carry it out" />
    </section>
  );
}

/** Why somebody may or may not do something, who else may, and what would change it. */
export function WhyView({ about, people, query }: { about: About; people: readonly Person[]; query: Readonly<Record<string, string>> }): ReactNode {
  const { tenant = '', person = '', action = '', record = '' } = query;
  const kind = about.permissions.find(({ name }) => name === action)?.kind ?? null;
  const records = useAnswer<{ id: string; label: string }[]>('records', kind === null ? undefined : { tenant, kind });
  const asked = { tenant, person, action, ...(kind !== null && record !== '' && { record }) };
  const why = useAnswer<{ explanation: Explanation; who: { userId: string; name: string; by: string[] }[] | null }>(
    'why',
    person && action ? asked : undefined,
  );
  const set = (more: Record<string, string>) => go('why', { ...query, ...more });
  return (
    <>
      <h1>Why, and why not</h1>
      <div className="row">
        <Choice
          label="Person"
          value={person}
          none="choose"
          onChange={(next) => set({ person: next })}
          options={people.map(({ id, name }) => ({ id, label: name }))}
        />
        <Choice
          label="Action"
          value={action}
          none="choose"
          onChange={(next) => set({ action: next, record: '' })}
          options={about.permissions.map(({ name, label, section }) => ({ id: name, label, group: section }))}
        />
        {kind !== null && <Choice label="Record" value={record} none="any" onChange={(next) => set({ record: next })} options={records.data ?? []} />}
        {kind !== null && (
          <Line key={record} label="or its name or address" value="" placeholder="paste, and press Enter" onEnter={(next) => set({ record: next })} />
        )}
      </div>
      {person && action && (
        <Shown of={why}>
          {({ explanation, who }) => (
            <>
              <p className={explanation.allowed ? 'verdict yes' : 'verdict no'} role="status">
                <strong>
                  {explanation.who.name} {explanation.allowed ? 'may' : 'may not'}: {explanation.action.label}
                  {explanation.record && ` “${explanation.record.label}”`}.
                </strong>{' '}
                {sentence(explanation.reason)}
              </p>
              <p className="quiet">
                {explanation.who.name}: {explanation.who.powers}. {explanation.told && `They are told: ${explanation.told}`}
              </p>
              <Grants title="What was looked at" grants={explanation.grants} />
              <Grants title="And for reading it, on which everything rests" grants={explanation.readGrants} />
              {who && (
                <section>
                  <h2>Who may</h2>
                  {who.length === 0 && <p>Nobody.</p>}
                  <ul>
                    {who.map(({ userId, name, by }) => (
                      <li key={userId}>
                        {name} <span className="quiet">{by.join('; ')}</span>
                      </li>
                    ))}
                  </ul>
                </section>
              )}
              {!explanation.allowed && explanation.record && (
                <Mend about={about} key={JSON.stringify(asked)} people={people} query={{ ...asked, record: explanation.record.id }} done={why.again} />
              )}
            </>
          )}
        </Shown>
      )}
    </>
  );
}

/** Everything that gives a permission, and who has it by each. */
export function GivesView({ about, query }: { about: About; query: Readonly<Record<string, string>> }): ReactNode {
  const { tenant = '', action = about.permissions[0]?.name ?? '' } = query;
  const gives = useAnswer<Giver[]>('gives', { tenant, action });
  return (
    <>
      <h1>What gives it</h1>
      <Choice
        label="Action"
        value={action}
        onChange={(next) => go('gives', { ...query, action: next })}
        options={about.permissions.map(({ name, label, section }) => ({ id: name, label, group: section }))}
      />
      <Shown of={gives}>
        {(all) => (
          <Sheet title="What gives it" head={['by', 'how far', 'who has it by this']}>
            {all.map(({ by, reaches, holders }) => (
              <tr key={by}>
                <th scope="row">{by}</th>
                <td>{reaches.join(', ')}</td>
                <td>{holders.join(', ') || 'nobody'}</td>
              </tr>
            ))}
          </Sheet>
        )}
      </Shown>
    </>
  );
}
