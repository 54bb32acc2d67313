import { Alert, Button, Code, Stack, TextInput } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { Step } from 'warm-lintel/server';
import { RoleChoice } from './parts.js';

/** Making somebody a member at once, by an account that the association keeps. */
export function EnrolForm({ propose }: { propose: (name: string, steps: readonly Step[]) => void }): ReactNode {
  const [form, setForm] = useState({ name: '', address: '' });
  const [roles, setRoles] = useState<string[]>([]);
  const field = (name: keyof typeof form) => ({
    value: form[name],
    onChange: (event: { currentTarget: { value: string } }) => setForm({ ...form, [name]: event.currentTarget.value }),
  });
  const held = roles.map((role) => ({ role, anchor: { on: 'tenant' } as const }));
  return (
    <Stack>
      <TextInput label="Name" {...field('name')} data-autofocus />
      <TextInput label="E-mail address" description="No message goes there: you hand over a way in, on paper or however you meet." {...field('address')} />
      <RoleChoice label="Roles" value={roles} onChange={setRoles} />
      <Button disabled={form.name.trim() === '' || form.address.trim() === ''} onClick={() => propose(form.name, [{ do: 'enrol', ...form, roles: held }])}>
        See what it does
      </Button>
    </Stack>
  );
}

/** What is handed to somebody; whoever has it can come in, so that it is shown once. */
export function WayIn({ activation }: { activation: string }): ReactNode {
  return (
    <Alert color="honey" mt="sm" role="status" title="The way in, shown once">
      <Code block style={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>{`${window.location.origin}/enrolled#${activation}`}</Code>
      Hand this to them and to nobody else: whoever opens it chooses the password. It counts for seven days, and once.
    </Alert>
  );
}
