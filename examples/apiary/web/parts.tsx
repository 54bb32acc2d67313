import { Checkbox, Modal, type ModalProps, Stack } from '@mantine/core';
import type { ReactNode } from 'react';
import type { Anchor } from 'warm-lintel';
import { Link, useLocation } from 'wouter';

/** `ofOwnHive` as people read it: “of own hive”. */
export const wayWords = (way: string) => way.replace(/^\w+/, (reach) => reach.replace(/[A-Z]/g, (letter) => ` ${letter.toLowerCase()}`));

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
    connections: 'Providers',
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
