import { Button, Group, Text, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { call, useLoad } from './api.js';
import { Trouble, useTry } from './trouble.js';

interface Arrived {
  at: string;
  from: string;
  to: string[];
  subject: string;
  text: string;
}

/** What the development mail server received. Links in a message can be followed. */
export function TrayPage(): ReactNode {
  const { data, error, reload } = useLoad<Arrived[]>('/api/tray');
  const [address, setAddress] = useState('');
  const { error: failed, busy, run } = useTry();
  if (error) return <Trouble error={error} />;
  return (
    <main className="page">
      <Title order={1}>Mail tray</Title>
      <Text className="quiet">For development: what was sent arrives here and goes nowhere else.</Text>
      <Group mt="md" align="flex-end">
        <Button variant="light" onClick={reload}>
          Look again
        </Button>
        <TextInput label="Try the mail" placeholder="somebody@example.example" value={address} onChange={(event) => setAddress(event.currentTarget.value)} />
        <Button variant="default" loading={busy} onClick={() => run(async () => call('POST', '/api/tray/test', { address }).then(reload))}>
          Send a test
        </Button>
      </Group>
      <Trouble error={failed} />
      {data?.length === 0 && <Text mt="lg">Nothing has arrived yet.</Text>}
      {data?.map((mail) => (
        <article key={mail.at + mail.to.join()} className="sheet" style={{ marginTop: '1rem' }}>
          <Title order={2} size="h4">
            {mail.subject}
          </Title>
          <Text size="sm" className="quiet">
            {mail.from} to {mail.to.join(', ')}, {mail.at.slice(0, 16).replace('T', ' ')}
          </Text>
          <div style={{ whiteSpace: 'pre-wrap', marginTop: '0.75rem', overflowWrap: 'anywhere' }}>
            {mail.text.split(/(https?:\/\/\S+)/).map((part) =>
              part.startsWith('http') ? (
                <a key={part} href={part} rel="noreferrer">
                  {part}
                </a>
              ) : (
                part
              ),
            )}
          </div>
        </article>
      ))}
    </main>
  );
}
