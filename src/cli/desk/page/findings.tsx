import { type ReactNode, useState } from 'react';
import type { AccessChange, Comparison, Outcome, ProbeFinding, ProbeReport, ReviewFinding } from '../../../rehearsal/index.js';
import { type Judged, open, placeOf } from '../../accepting.js';
import type { About, Person } from './about.js';
import { go, send, useAnswer } from './address.js';
import { Choice, Findings, Line, Sheet, Shown, Trouble } from './parts.js';

type Query = Readonly<Record<string, string>>;
/** With the words for whose each part is. */
type Records = NonNullable<Comparison['records']>;
type Compared = Omit<Comparison, 'records'> & {
  readonly records?: { readonly action: string; readonly groups: readonly (Records['groups'][number] & { readonly by: string })[] };
};

/** People side by side: where they differ, and whose the records are. */
export function CompareView({ about, people, query }: { about: About; people: readonly Person[]; query: Query }): ReactNode {
  const { tenant = '', a = people[0]?.id ?? '', b = people[1]?.id ?? '', c = '', day = '' } = query;
  const action = query.action ?? about.permissions.find(({ kind }) => kind)?.name ?? '';
  // Somebody is compared with what they held on a day.
  const other = day && !b.startsWith('role:') ? `${b}@${day}` : b;
  const compared = useAnswer<Compared>('compare', a && b ? { tenant, people: [a, other, c].filter((one) => one !== '').join(), action } : undefined);
  const set = (more: Record<string, string>) => go('compare', { ...query, ...more });
  const options = [
    ...people.map(({ id, name }) => ({ id, label: name, group: 'People' })),
    ...about.roles.map(({ id, label }) => ({ id: `role:${id}`, label, group: 'Whoever holds a role alone' })),
  ];
  return (
    <>
      <h1>Side by side</h1>
      <div className="row">
        <Choice label="One" value={a} onChange={(next) => set({ a: next })} options={options} />
        <Choice label="The other" value={b} onChange={(next) => set({ b: next })} options={options} />
        <Line label="as of" type="date" value={day} onChange={(next) => set({ day: next })} />
        <Choice label="And" value={c} none="nobody else" onChange={(next) => set({ c: next })} options={options} />
        <Choice
          label="On"
          value={action}
          onChange={(next) => set({ action: next })}
          options={about.permissions
            .filter(({ kind, name }) => kind !== null && !name.endsWith('.create'))
            .map(({ name, label, section }) => ({ id: name, label, group: section }))}
        />
      </div>
      <Shown of={compared}>
        {({ names, permissions, alike, records }) => (
          <>
            {records && (
              <>
                <h2>{records.action}</h2>
                <Sheet title="Records" head={['reached by', 'records', 'of them']}>
                  {records.groups.map(({ reaches, by, count, some }) => (
                    <tr key={reaches.join()}>
                      <th scope="row">{by}</th>
                      <td>{count}</td>
                      <td>{some.map(({ label, id }) => String(label ?? id)).join(', ')}</td>
                    </tr>
                  ))}
                </Sheet>
              </>
            )}
            <h2>Where they differ</h2>
            <Sheet title="Permissions" head={['may', ...names]}>
              {permissions.map(({ permission, label, each }) => (
                <tr key={permission}>
                  <th scope="row">{label}</th>
                  {each.map(({ ways, by }, i) => (
                    <td key={names[i]} className={ways.length === 0 ? 'none' : 'part'}>
                      {ways.length === 0 ? '–' : ways.join(', ')} <small>{by.join('; ')}</small>
                    </td>
                  ))}
                </tr>
              ))}
            </Sheet>
            <p className="quiet">{alike} permissions reach equally far for all of them.</p>
          </>
        )}
      </Shown>
    </>
  );
}

export function ReviewView({ query }: { query: Query }): ReactNode {
  const review = useAnswer<Judged<ReviewFinding & { why: string; remedy: string }>[]>('review', { tenant: query.tenant });
  return (
    <>
      <h1>Review</h1>
      <Shown of={review}>
        {(found) => (
          <>
            {found.length === 0 && <p className="verdict yes">Nothing was found, in the charter or in this organisation.</p>}
            <Findings
              all={found.map(({ message, example, why, remedy, ...one }) => ({
                ...one,
                words: (
                  <>
                    {message}
                    {example && `; for example ${example}`}. {why} <em>{remedy}</em>
                  </>
                ),
              }))}
            />
          </>
        )}
      </Shown>
    </>
  );
}

export function ChangesView({ query }: { query: Query }): ReactNode {
  const changes = useAnswer<AccessChange[]>('changes', { tenant: query.tenant });
  const ways = (of: readonly string[]) => of.join(', ') || '–';
  return (
    <>
      <h1>What changed since</h1>
      <Shown of={changes}>
        {(all) =>
          all.length === 0 ? (
            <p className="verdict yes">Nobody’s access is another than before.</p>
          ) : (
            <Sheet title="Changes" head={['who', 'may', 'before', 'now', 'change', 'records', 'such as']}>
              {all.map(({ name, permission, was, becomes, change, records, rule, some }) => (
                <tr key={`${name} ${permission}`}>
                  <th scope="row">{name}</th>
                  <td>{permission}</td>
                  <td>{rule ? `${ways(was)}: ${rule.was}` : ways(was)}</td>
                  <td>{rule ? `${ways(becomes)}: ${rule.becomes}` : ways(becomes)}</td>
                  <td className={change.startsWith('grows') ? 'part' : 'none'}>{change}</td>
                  <td>{records ? `+${records.more} −${records.fewer}` : ''}</td>
                  <td>{[...(some?.more ?? []), ...(some?.fewer ?? [])].map(({ id, label }) => label ?? id).join(', ')}</td>
                </tr>
              ))}
            </Sheet>
          )
        }
      </Shown>
    </>
  );
}

export function RehearsalView({ query }: { query: Query }): ReactNode {
  const rehearsal = useAnswer<{ file: string; outcomes: Outcome[] }>('rehearsal', { tenant: query.tenant });
  return (
    <>
      <h1>Rehearsal</h1>
      <Shown of={rehearsal}>
        {({ file, outcomes }) => {
          const broken = outcomes.filter(({ held }) => !held);
          return (
            <>
              <p className={broken.length === 0 ? 'verdict yes' : 'verdict no'} role="status">
                {outcomes.length - broken.length} of {outcomes.length} expectations in {file} hold.
              </p>
              {broken.length > 0 && (
                <Sheet title="What differs" head={['line', 'what is so']}>
                  {broken.map(({ line, name, words }) => (
                    <tr key={`${line} ${name}`}>
                      <td>{line}</td>
                      <td>{words}</td>
                    </tr>
                  ))}
                </Sheet>
              )}
            </>
          );
        }}
      </Shown>
    </>
  );
}

type Tried = Omit<ProbeReport, 'findings'> & { readonly findings: readonly Judged<ProbeFinding>[] };

/** The running application, tried. It takes a while, so it is begun by a button. */
export function ProbeView(): ReactNode {
  const [state, setState] = useState<{ running?: true; report?: Tried; error?: string }>({});
  const run = () => {
    setState({ running: true });
    send<Tried>('probe', {}).then(
      (report) => setState({ report }),
      (error: Error) => setState({ error: error.message }),
    );
  };
  const { running, report, error } = state;
  const left = report && open(report.findings).length;
  return (
    <>
      <h1>Probe</h1>
      <p>The application is called on every route as everybody, with ids of others and fields that no form sends. What it changes is put back.</p>
      <button type="button" className="loud" disabled={running === true} onClick={run}>
        {running ? 'Trying …' : 'Try the application'}
      </button>
      {error !== undefined && <Trouble error={error} />}
      {report && (
        <>
          <p className={left === 0 ? 'verdict yes' : 'verdict no'} role="status">
            {report.calls} calls as {report.people.length} people: {left === 0 ? 'nothing was found' : `${left} found`}.
          </p>
          <Findings
            all={report.findings.map(({ message, people, route, ...one }) => ({
              ...one,
              place: placeOf({ route, about: one.about }),
              words: `${message}${people.length > 1 ? `; so for ${people.length - 1} more` : ''}.`,
            }))}
          />
          <Sheet title="Answered with success, of all calls" head={['route', ...report.people]}>
            {report.coverage.map(({ route, by }) => (
              <tr key={route}>
                <th scope="row">{route}</th>
                {by.map(({ calls, answered }, i) => (
                  <td key={report.people[i]} className={answered === 0 ? 'none' : 'part'}>
                    {answered}/{calls}
                  </td>
                ))}
              </tr>
            ))}
          </Sheet>
        </>
      )}
    </>
  );
}
