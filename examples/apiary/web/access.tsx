import { SegmentedControl, Text, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { AccessTable, Cell } from 'warm-lintel/rehearsal';
import { useLoad } from './api.js';
import { wayWords } from './parts.js';
import { Trouble } from './trouble.js';

const shade = (cell: Cell) => (cell.ways.length === 0 ? 'none' : cell.ways[0] === 'all' || cell.ways[0] === 'yes' ? 'all' : 'some');

/** The access table: who may do what, how far, and on how many records now. */
export function AccessPage({ tenant }: { tenant: string }): ReactNode {
  const [by, setBy] = useState('roles');
  const { data, error } = useLoad<AccessTable>(`/api/t/${tenant}/access?by=${by}`);
  if (error) return <Trouble error={error} />;
  return (
    <>
      <Title order={1}>Access</Title>
      <Text mt="xs" mb="md" className="quiet">
        How far each reaches. A number says how many records that is now.
      </Text>
      <SegmentedControl
        value={by}
        onChange={setBy}
        data={[
          { value: 'roles', label: 'By role' },
          { value: 'people', label: 'By person' },
        ]}
        aria-label="What stands at the side"
      />
      {data?.sections.map((section) => (
        <section key={section.name} className="sheet" style={{ marginTop: '1rem' }}>
          <Title order={2} size="h4" mb="xs">
            {section.name}
            {section.total !== null && (
              <Text span className="quiet" size="sm">
                {' '}
                {section.total} records
              </Text>
            )}
          </Title>
          {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard */}
          <section className="scroll" tabIndex={0} aria-label={section.name}>
            <table className="access">
              <thead>
                <tr>
                  <th scope="col">{by === 'roles' ? 'Role' : 'Person'}</th>
                  {section.permissions.map((p) => (
                    <th scope="col" key={p.name}>
                      {p.label}
                      <small>{p.name}</small>
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {section.rows.map(({ subject, cells }) => (
                  <tr key={subject.id}>
                    <th scope="row">
                      {subject.name}
                      <small>{subject.line}</small>
                    </th>
                    {cells.map((cell, i) => (
                      <td key={section.permissions[i]?.name} className={shade(cell)}>
                        {cell.ways.length === 0 ? '–' : cell.ways.map(wayWords).join(', ')}
                        {cell.count !== null && cell.ways.length > 0 && <small>{cell.count}</small>}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        </section>
      ))}
    </>
  );
}
