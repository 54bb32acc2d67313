import { Alert, Checkbox, Modal, type ModalProps, Stack, Text, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { Anchor } from 'warm-lintel';
import { Link, useLocation } from 'wouter';
import { Refusal } from './api.js';

export function NotFound(): ReactNode {
  return (
    <main className="page">
      <Title order={1}>There is no such page</Title>
      <Text mt="sm">
        The address may be wrong, or what was here is not there for you. <a href="/">Go to the start</a>
      </Text>
    </main>
  );
}

/** `ofOwnHive` as people read it: “of own hive”. */
export const wayWords = (way: string) => way.replace(/^\w+/, (reach) => reach.replace(/[A-Z]/g, (letter) => ` ${letter.toLowerCase()}`));

/** Shows what went wrong, in the server's words. */
export function Trouble({ error }: { error: Refusal | undefined }): ReactNode {
  if (!error) return null;
  if (error.status === 404) return <NotFound />;
  return (
    <Alert color="red" variant="light" role="alert" mt="sm">
      {error.message}
    </Alert>
  );
}

/** Runs something that may be refused, and keeps what the server said. */
export function useTry(): { error: Refusal | undefined; busy: boolean; run: (work: () => Promise<void>) => void } {
  const [error, setError] = useState<Refusal>();
  const [busy, setBusy] = useState(false);
  const run = (work: () => Promise<void>) => {
    setBusy(true);
    setError(undefined);
    work()
      .catch((reason: unknown) => setError(reason instanceof Refusal ? reason : new Refusal(0, 'Something went wrong. Try again.', '')))
      .finally(() => setBusy(false));
  };
  return { error, busy, run };
}

/** Where something holds, as words; nothing for the whole association. */
export const placeWords = (anchor: Anchor) =>
  anchor.on === 'tenant' ? '' : ` at ${anchor.on === 'unit' ? (anchor.name ?? anchor.unitId) : `${anchor.kind} ${anchor.id}`}`;

/** The pages about people, with the one that is open marked. */
export function PeopleTabs({ tenant }: { tenant: string }): ReactNode {
  const [here] = useLocation();
  const pages = {
    members: 'Members',
    roles: 'Roles',
    groups: 'Groups',
    units: 'Sites',
    programs: 'Programs',
    rules: 'Rules',
    appeals: 'Asked for',
    record: 'Record of changes',
  };
  return (
    <nav aria-label="People" className="tabs">
      {Object.entries(pages).map(([path, label]) => {
        const to = `/t/${tenant}/${path}`;
        return (
          <Link key={path} href={to} aria-current={here === to ? 'page' : undefined}>
            {label}
          </Link>
        );
      })}
    </nav>
  );
}

/** A dialog over the page; its close button has a name. */
export function Dialog(props: Omit<ModalProps, 'closeButtonProps'>): ReactNode {
  return <Modal {...props} closeButtonProps={{ 'aria-label': 'Close' }} />;
}

/** Members to choose among. */
export function PeopleChoice(props: {
  label: string;
  value: string[];
  onChange: (people: string[]) => void;
  members: readonly { userId: string; name: string }[];
}): ReactNode {
  return (
    <Checkbox.Group label={props.label} value={props.value} onChange={props.onChange}>
      <Stack gap={4} mt="xs">
        {props.members.map((m) => (
          <Checkbox key={m.userId} value={m.userId} label={m.name} />
        ))}
      </Stack>
    </Checkbox.Group>
  );
}

/** The roles that this person may give, to choose among. */
export function RoleChoice(props: {
  label: string;
  value: string[];
  onChange: (roles: string[]) => void;
  toGive: readonly { role: string; label: string; sentence?: string }[];
}): ReactNode {
  return (
    <Checkbox.Group value={props.value} onChange={props.onChange} label={props.label}>
      <Stack gap="xs" mt="xs">
        {props.toGive.map((r) => (
          <Checkbox key={r.role} value={r.role} label={r.label} description={r.sentence} />
        ))}
      </Stack>
    </Checkbox.Group>
  );
}
