import { type ReactNode, useEffect, useId, useState } from 'react';
import { whose } from 'warm-lintel/rehearsal';
import { openWorld, type World } from './world.js';

interface Named {
  readonly id: string;
  readonly name: string;
}

function Choice(props: { label: string; value: string; of: readonly Named[]; choose: (id: string) => void }): ReactNode {
  const id = useId();
  return (
    <div>
      <label htmlFor={id}>{props.label}</label>
      <select id={id} value={props.value} onChange={(event) => props.choose(event.target.value)}>
        {props.of.map((one) => (
          <option key={one.id} value={one.id}>
            {one.name}
          </option>
        ))}
      </select>
    </div>
  );
}

/** What was last asked for, once it is there. */
function useAsked<T>(ask: () => Promise<T>, by: string): T | undefined {
  const [found, setFound] = useState<{ by: string; value: T }>();
  // biome-ignore lint/correctness/useExhaustiveDependencies: asked anew when what it is about changes
  useEffect(() => {
    let left = false;
    void ask().then((value) => !left && setFound({ by, value }));
    return () => {
      left = true;
    };
  }, [by]);
  return found?.by === by ? found.value : undefined;
}

function Table({ world, ask }: { world: World; ask: (person: string, action: string) => void }): ReactNode {
  const table = useAsked(() => world.table('hive'), 'hive');
  const [section] = table?.sections ?? [];
  if (!section) return <p>Counting …</p>;
  return (
    <table aria-label="Hives">
      <caption>Everybody against what is done with the {section.total} hives: how far each reaches, and how many that are. A cell says why.</caption>
      <thead>
        <tr>
          <th scope="col">Person</th>
          {section.permissions.map(({ name, label }) => (
            <th scope="col" key={name}>
              {label}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {section.rows.map(({ subject, cells }) => (
          <tr key={subject.id}>
            <th scope="row">
              {subject.name} <small>{subject.line}</small>
            </th>
            {cells.map(({ ways, count }, i) => {
              const { name = '', label = '' } = section.permissions[i] ?? {};
              const words = ways.length === 0 ? '–' : ways.join(', ');
              return (
                <td key={name} className={ways.length === 0 ? 'none' : ways.includes('all') ? 'all' : 'some'}>
                  <button type="button" onClick={() => ask(subject.id, name)} aria-label={`${subject.name}, ${label}: ${words}`}>
                    {words} {ways.length > 0 && count !== null && <small>{count}</small>}
                  </button>
                </td>
              );
            })}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Compare({ world, actions }: { world: World; actions: readonly Named[] }): ReactNode {
  const [one, setOne] = useState('tobias');
  const [other, setOther] = useState('sela');
  const [action, setAction] = useState('hive.update');
  const found = useAsked(() => world.compare([one, other], action), `${one} ${other} ${action}`);
  return (
    <>
      <form>
        <Choice label="One" value={one} of={world.people} choose={setOne} />
        <Choice label="Another" value={other} of={world.people} choose={setOther} />
        <Choice label="Doing" value={action} of={actions} choose={setAction} />
      </form>
      <dl aria-label="Who reaches which">
        {found?.records?.groups.map((group) => (
          <div key={group.reaches.join()}>
            <dt>
              {whose(found.names, group)}: {group.count}
            </dt>
            <dd>{group.some.map(({ label }) => label).join(', ')}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}

export type Question = { person: string; action: string; hive: string };

function Why(props: { world: World; actions: readonly Named[]; question: Question; ask: (question: Question) => void }): ReactNode {
  const { world, question, ask } = props;
  const { person, action, hive } = question;
  const found = useAsked(() => world.why(person, action, hive), JSON.stringify(question));
  return (
    <>
      <form>
        <Choice label="Person" value={person} of={world.people} choose={(id) => ask({ ...question, person: id })} />
        <Choice label="Doing" value={action} of={props.actions} choose={(id) => ask({ ...question, action: id })} />
        <Choice label="Hive" value={hive} of={world.hives} choose={(id) => ask({ ...question, hive: id })} />
      </form>
      {found && (
        <section aria-live="polite" aria-label="Why">
          <p className={found.allowed ? 'yes' : 'no'}>
            <strong>{found.allowed ? 'Yes.' : 'No.'}</strong> {found.reason}
          </p>
          <ul>
            {[...found.grants, ...found.readGrants].map(({ by, where, holds, failed }) => (
              <li key={`${by} ${where} ${failed.join()}`}>
                {holds}: {by}; {where}
                {failed.map((part) => (
                  <div key={part}>{part}</div>
                ))}
              </li>
            ))}
          </ul>
          {!found.allowed && <p>They are told: “{found.told}”</p>}
        </section>
      )}
    </>
  );
}

const VIEWS = { table: 'Table', compare: 'Compare', why: 'Why' } as const;

export function Page(): ReactNode {
  const [world, setWorld] = useState<World>();
  const [trouble, setTrouble] = useState('');
  const [view, setView] = useState<keyof typeof VIEWS>('table');
  const [question, ask] = useState<Question>({ person: 'tobias', action: 'hive.update', hive: 'a-hive-02' });
  useEffect(() => {
    openWorld().then(setWorld, (error: unknown) => setTrouble(String(error)));
  }, []);
  if (!world)
    return (
      <main aria-busy={trouble === ''}>
        <h1>Who may do what</h1>
        <p>{trouble || 'A database is being set up in this page: some seconds …'}</p>
      </main>
    );
  const actions = world.actions.map(({ name, label }) => ({ id: name, name: label }));
  return (
    <main>
      <h1>Who may do what</h1>
      <p>The charter, the database and every answer are in this page. Nothing is asked of a server.</p>
      <nav aria-label="Views">
        {Object.entries(VIEWS).map(([id, label]) => (
          <button type="button" key={id} aria-pressed={view === id} onClick={() => setView(id as keyof typeof VIEWS)}>
            {label}
          </button>
        ))}
      </nav>
      {view === 'table' && (
        <Table
          world={world}
          ask={(person, action) => {
            ask({ ...question, person, action });
            setView('why');
          }}
        />
      )}
      {view === 'compare' && <Compare world={world} actions={actions} />}
      {view === 'why' && <Why world={world} actions={actions} question={question} ask={ask} />}
    </main>
  );
}
