import { type ReactNode, useState } from 'react';
import type { Cell, Section } from '../../../rehearsal/index.js';
import type { About } from './about.js';
import { go, useAnswer } from './address.js';
import { Choice, Line, Sheet, Shown } from './parts.js';

const shade = ({ ways }: Cell) => (ways.length === 0 ? 'none' : ways[0] === 'all' || ways[0] === 'yes' ? 'whole' : 'part');
/** Rows of a page: a thousand people are not drawn at once. */
const ROWS = 50;

/** Everybody, or every role, against every action: a cell leads to why. */
export function TableView({ about, query }: { about: About; query: Readonly<Record<string, string>> }): ReactNode {
  const { tenant = '', by = 'roles', only = about.kinds[0]?.name ?? '', most = '' } = query;
  const table = useAnswer<{ sections: (Section & { told: string[] })[] }>('table', { tenant, by, only, most });
  const [wanted, setWanted] = useState('');
  const [page, setPage] = useState(0);
  const groups = [...new Set(about.permissions.map(({ name }) => name.split('.')[0] as string))];
  const called = (group: string) =>
    about.kinds.find(({ name }) => name === group)?.many ?? about.permissions.find(({ name }) => name.startsWith(`${group}.`))?.section ?? group;
  const cell = (action: string, subject: string) => (by === 'people' ? go('why', { tenant, person: subject, action }) : go('gives', { tenant, action }));
  return (
    <>
      <h1>Who may do what</h1>
      <div className="row">
        <Choice
          label="At the side"
          value={by}
          onChange={(next) => go('table', { ...query, by: next })}
          options={[
            { id: 'roles', label: 'Roles' },
            { id: 'people', label: 'People' },
          ]}
        />
        <Choice
          label="About"
          value={only}
          onChange={(next) => go('table', { ...query, only: next })}
          options={groups.map((group) => ({ id: group, label: called(group) }))}
        />
        <Line
          label="Read by more than"
          type="number"
          min="1"
          value={most}
          placeholder="people, and Enter"
          onEnter={(next) => go('table', { ...query, most: next })}
        />
        <Line
          label="Named"
          value={wanted}
          onChange={(next) => {
            setPage(0);
            setWanted(next);
          }}
        />
      </div>
      <Shown of={table}>
        {({ sections }) =>
          sections.map((section) => {
            const rows = section.rows.filter(({ subject }) => `${subject.name} ${subject.id}`.toLowerCase().includes(wanted.toLowerCase()));
            const pages = Math.max(1, Math.ceil(rows.length / ROWS));
            return (
              <section key={section.name}>
                <h2>
                  {section.name} {section.total !== null && <small>{section.total} records</small>}
                </h2>
                <Sheet
                  title={section.name}
                  head={[
                    by === 'people' ? 'Person' : 'Role',
                    ...section.permissions.map((p) => (
                      <span key={p.name} title={p.name}>
                        {p.label}
                      </span>
                    )),
                  ]}
                >
                  {rows.slice(page * ROWS, (page + 1) * ROWS).map(({ subject, cells }) => (
                    <tr key={subject.id}>
                      <th scope="row">
                        {subject.name} <small>{subject.line}</small>
                      </th>
                      {cells.map((one, i) => {
                        const action = section.permissions[i]?.name ?? '';
                        const words = one.ways.length === 0 ? '–' : one.ways.join(', ');
                        return (
                          <td key={action} className={shade(one)}>
                            <button
                              type="button"
                              onClick={() => cell(action, subject.id)}
                              aria-label={`${subject.name}, ${section.permissions[i]?.label}: ${words}. Why?`}
                            >
                              {words}
                              {one.count !== null && one.ways.length > 0 && <small>{one.count}</small>}
                            </button>
                          </td>
                        );
                      })}
                    </tr>
                  ))}
                </Sheet>
                {section.told.map((line) => (
                  <p key={line}>{line}</p>
                ))}
                {pages > 1 && (
                  <nav className="row" aria-label="Pages">
                    <button type="button" disabled={page === 0} onClick={() => setPage(page - 1)}>
                      Before
                    </button>
                    <span>
                      {page * ROWS + 1} to {Math.min(rows.length, (page + 1) * ROWS)} of {rows.length}
                    </span>
                    <button type="button" disabled={page >= pages - 1} onClick={() => setPage(page + 1)}>
                      Next
                    </button>
                  </nav>
                )}
              </section>
            );
          })
        }
      </Shown>
    </>
  );
}
