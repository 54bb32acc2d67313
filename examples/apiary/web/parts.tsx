import { Button, Checkbox, Modal, type ModalProps, NativeSelect, Stack } from '@mantine/core';
import { type ReactNode, useEffect, useRef, useState } from 'react';
import type { Anchor } from 'warm-lintel';
import { useRolesToGive } from 'warm-lintel/react';
import { Link, useLocation } from 'wouter';

/** `ofOwnHive` as people read it: “of own hive”. */
export const wayWords = (way: string) => way.replace(/^\w+/, (reach) => reach.replace(/[A-Z]/g, (letter) => ` ${letter.toLowerCase()}`));

/** How far something reaches, as words. */
export const reachWords = (reaches: readonly string[] = []) =>
  reaches.map((reach) => (reach === 'tenant' || reach === 'shared' ? 'all' : reach === 'base' ? 'what the organisation chose' : wayWords(reach))).join(', ');

/** The end of a day, as steps take it: as `until`, where one was chosen. */
export const untilEnd = (day: string) => (day === '' ? {} : { until: `${day}T23:59:59Z` });

/** Where something holds, as words; nothing for the whole association. */
export const placeWords = (anchor: Anchor) =>
  anchor.on === 'tenant' ? '' : ` at ${anchor.on === 'unit' ? (anchor.name ?? anchor.unitId) : `${anchor.kind} ${anchor.id}`}`;

/** The pages about people, by path. */
export const PEOPLE_PAGES = {
  organisation: 'Organisation',
  members: 'Members',
  roles: 'Roles',
  groups: 'Groups',
  units: 'Sites',
  sharing: 'Sharing',
  programs: 'Programs',
  rules: 'Rules',
  connections: 'Providers',
  appeals: 'Asked for',
  record: 'Record of changes',
};

/** The pages about people, with the one that is open marked. */
export function PeopleTabs({ tenant }: { tenant: string }): ReactNode {
  const [here] = useLocation();
  const tabs = useRef<HTMLElement>(null);
  // Where they do not all fit, the one that is open is in sight.
  useEffect(() => {
    const nav = tabs.current;
    const open = nav?.querySelector<HTMLElement>('[aria-current]');
    if (nav && open) nav.scrollLeft = open.offsetLeft - nav.offsetLeft - (nav.clientWidth - open.offsetWidth) / 2;
  });
  return (
    <nav ref={tabs} aria-label="People" className="tabs">
      {Object.entries(PEOPLE_PAGES).map(([path, label]) => {
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

/** A table whose rows are read one by one where there is no room for columns. The first cell of a row names it. */
export function Grid(props: {
  label: string;
  columns: readonly string[];
  rows: readonly { key: string; cells: readonly ReactNode[] }[];
  /** Reads on, where there is more. */
  more?: (() => void) | undefined;
}): ReactNode {
  const { label, columns, rows, more } = props;
  const table = (
    <table className="grid sheet" aria-label={label}>
      <thead>
        <tr>
          {columns.map((column) => (
            <th scope="col" key={column}>
              {column}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map(({ key, cells }) => (
          <tr key={key}>
            {cells.map((cell, i) =>
              i === 0 ? (
                <th scope="row" key={columns[i]}>
                  {cell}
                </th>
              ) : (
                <td key={columns[i]} data-column={columns[i]}>
                  {cell}
                </td>
              ),
            )}
          </tr>
        ))}
      </tbody>
    </table>
  );
  if (!more) return table;
  return (
    <>
      {table}
      <Button mt="sm" variant="default" onClick={more}>
        Show more
      </Button>
    </>
  );
}

/** Something that is looked up only when it is unfolded. */
export function Folded({ summary, children }: { summary: string; children: ReactNode }): ReactNode {
  const [open, setOpen] = useState(false);
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>{summary}</summary>
      {open && children}
    </details>
  );
}

/** Leads the eye to what the address names behind its #, once it is there. */
export function useMarked(isThere: boolean): void {
  useEffect(() => {
    const found = isThere && window.location.hash !== '' && document.getElementById(decodeURIComponent(window.location.hash.slice(1)));
    if (!found) return;
    found.classList.add('marked');
    found.scrollIntoView({ block: 'center', inline: 'center' });
  }, [isThere]);
}

/** One of several, or none yet. */
export function Choice(props: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  of: readonly { id: string; name: string }[];
  none?: string;
}): ReactNode {
  const { label, value, onChange, of, none } = props;
  return (
    <NativeSelect
      label={label}
      value={value}
      onChange={(event) => onChange(event.currentTarget.value)}
      data={[...(none === undefined ? [] : [{ value: '', label: none }]), ...of.map(({ id, name }) => ({ value: id, label: name }))]}
    />
  );
}

/** Several of some, or none; nothing where there is nothing to choose. */
export function Several(props: {
  label: string;
  value: string[];
  onChange: (chosen: string[]) => void;
  of: readonly { id: string; name: string }[];
}): ReactNode {
  const { label, value, onChange, of } = props;
  if (of.length === 0) return null;
  return (
    <Checkbox.Group label={label} value={value} onChange={onChange}>
      <Stack gap={4} mt="xs">
        {of.map(({ id, name }) => (
          <Checkbox key={id} value={id} label={name} />
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
  /** Without full control, which nothing but a person holds. */
  people?: boolean;
}): ReactNode {
  const toGive = useRolesToGive().items?.filter(({ role }) => !props.people || role !== 'keyholder') ?? [];
  return (
    <Checkbox.Group value={props.value} onChange={props.onChange} label={props.label}>
      <Stack gap="xs" mt="xs">
        {toGive.map((r) => (
          <Checkbox key={r.role} value={r.role} label={r.label} description={r.sentence} />
        ))}
      </Stack>
    </Checkbox.Group>
  );
}
