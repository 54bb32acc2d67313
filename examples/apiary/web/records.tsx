import { Table, Text, Title } from '@mantine/core';
import type { ReactNode } from 'react';
import { useLoad } from './api.js';
import { Trouble } from './trouble.js';

interface Records {
  title: string;
  columns: string[];
  rows: ({ id: string } & Record<string, string>)[];
}

/** A plain list of one kind of record. */
export function RecordsPage({ tenant, area }: { tenant: string; area: string }): ReactNode {
  const { data, error } = useLoad<Records>(`/api/t/${tenant}/records/${area}`);
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      <Title order={1}>{data.title}</Title>
      {data.rows.length === 0 && <Text mt="md">There is none that is open to you.</Text>}
      <Table mt="md" className="sheet" aria-label={data.title}>
        <Table.Thead>
          <Table.Tr>
            {data.columns.map((column) => (
              <Table.Th key={column}>{column.charAt(0).toUpperCase() + column.slice(1)}</Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {data.rows.map((row) => (
            <Table.Tr key={row.id}>
              {data.columns.map((column) => (
                <Table.Td key={column}>{row[column]}</Table.Td>
              ))}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </>
  );
}
