import { Text, Title } from '@mantine/core';
import type { ReactNode } from 'react';
import { useLoad } from './api.js';
import { Grid } from './parts.js';
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
      {data.rows.length > 0 && (
        <Grid
          label={data.title}
          columns={data.columns.map((column) => column.charAt(0).toUpperCase() + column.slice(1))}
          rows={data.rows.map((row) => ({ key: row.id, cells: data.columns.map((column) => row[column]) }))}
        />
      )}
    </>
  );
}
