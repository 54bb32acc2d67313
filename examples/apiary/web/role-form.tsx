import { Button, Checkbox, Group, NativeSelect, Stack, Text, TextInput } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { Step } from 'warm-lintel/server';
import { charter } from '../world/charter.js';
import type { Role } from './api.js';
import { Choice, reachWords } from './parts.js';

type May = Readonly<Record<string, readonly string[]>>;
/** A role to start from: all that it gives, with what it has from those that it includes. */
export interface ToStartFrom {
  readonly id: string;
  readonly label: string;
  readonly startsAt?: string | undefined;
  readonly may: May;
}

const permissions = [...charter.permissions.values()];
const sections = [...new Set(permissions.map(({ section }) => section))];
const labelOf = (name: string) => charter.permission(name as never).label;
/** The least that it can be given with. */
const narrowest = (name: string) => charter.reachesOf(name).findLast((reach) => reach !== 'base') as string;

/** What a permission does not work without and the role does not have, with what that needs in turn. */
function lacking(may: May, name: string, found: string[] = []): string[] {
  for (const need of charter.permission(name as never).needs ?? []) {
    if (may[need] || found.includes(need)) continue;
    found.push(need);
    lacking(may, need, found);
  }
  return found;
}

/** A role of one's own, permission by permission: what each needs, what it brings along, and where its holder starts. */
export function RoleForm(props: {
  from: Role;
  id: string | undefined;
  others: readonly ToStartFrom[];
  propose: (title: string, step: Step) => void;
}): ReactNode {
  const { from, id, others, propose } = props;
  const [label, setLabel] = useState(from.label);
  const [sentence, setSentence] = useState(from.sentence ?? '');
  const [startsAt, setStartsAt] = useState(from.startsAt ?? '');
  const [may, setMay] = useState<May>(from.may);
  const set = (name: string, reaches: readonly string[]) => {
    const { [name]: _, ...rest } = may;
    setMay(reaches.length > 0 ? { ...rest, [name]: reaches } : rest);
  };
  /** As far as what needs it, where it can be. */
  const add = (name: string, needs: readonly string[]) => {
    const reaches = (need: string) => (may[name] ?? []).filter((reach) => charter.reachesOf(need).includes(reach));
    setMay({ ...may, ...Object.fromEntries(needs.map((need) => [need, reaches(need).length > 0 ? reaches(need) : [narrowest(need)]])) });
  };
  const startFrom = (chosen: string) => {
    const other = others.find((one) => one.id === chosen);
    setMay(other?.may ?? {});
    setStartsAt(other?.startsAt ?? '');
  };
  const areas = Object.entries(charter.data.areas).filter(([area]) => may[`area.${area}`]);
  const save = () => {
    const role = {
      label,
      includes: from.includes,
      gives: from.gives,
      may,
      ...(sentence && { sentence }),
      ...(areas.some(([area]) => area === startsAt) && { startsAt }),
    };
    propose(label, id === undefined ? { do: 'make-role', role } : { do: 'edit-role', id, role });
  };
  return (
    <Stack>
      <TextInput label="Name of the role" value={label} onChange={(event) => setLabel(event.currentTarget.value)} data-autofocus />
      <TextInput label="In a sentence" value={sentence} onChange={(event) => setSentence(event.currentTarget.value)} />
      {id === undefined && (
        <Choice label="Start from" value="" onChange={startFrom} of={others.map((one) => ({ id: one.id, name: one.label }))} none="what is chosen below" />
      )}
      {sections.map((section) => (
        <fieldset key={section} className="section">
          <legend>{section}</legend>
          {permissions
            .filter((p) => p.section === section)
            .map((p) => (
              <OnePermission
                key={p.name}
                permission={p}
                reaches={may[p.name]}
                lacks={may[p.name] ? lacking(may, p.name) : []}
                onChange={(reaches) => set(p.name, reaches)}
                onAdd={(needs) => add(p.name, needs)}
              />
            ))}
        </fieldset>
      ))}
      <Choice
        label="Its holder starts at"
        value={startsAt}
        onChange={setStartsAt}
        of={areas.map(([area, { label: name }]) => ({ id: area, name }))}
        none="the first area that is open to them"
      />
      <Button disabled={label.trim() === ''} onClick={save}>
        See what it does
      </Button>
    </Stack>
  );
}

function OnePermission(props: {
  permission: (typeof permissions)[number];
  reaches: readonly string[] | undefined;
  lacks: readonly string[];
  onChange: (reaches: readonly string[]) => void;
  onAdd: (needs: readonly string[]) => void;
}): ReactNode {
  const { permission, reaches, lacks, onChange, onAdd } = props;
  const { name, label, sentence, brings } = permission;
  const all = charter.reachesOf(name);
  return (
    <Group gap="sm" align="flex-start" my={4} wrap="nowrap">
      <div style={{ flex: 1 }}>
        <Checkbox
          label={label}
          description={[sentence, brings && `Brings along: ${brings}.`].filter(Boolean).join(' ') || undefined}
          checked={reaches !== undefined}
          onChange={(event) => onChange(event.currentTarget.checked ? [narrowest(name)] : [])}
        />
        {lacks.length > 0 && (
          <Text size="sm" className="lacks">
            It does not work without: {lacks.map(labelOf).join(', ')}.{' '}
            <Button size="compact-xs" variant="light" aria-label={`Add what “${label}” needs`} onClick={() => onAdd(lacks)}>
              Add
            </Button>
          </Text>
        )}
      </div>
      {reaches && all.length > 1 && (
        <NativeSelect
          aria-label={`How far: ${label}`}
          size="xs"
          value={reaches.join()}
          onChange={(event) => onChange(event.currentTarget.value.split(','))}
          data={[...new Set([reaches.join(), ...all])].map((reach) => ({ value: reach, label: reachWords(reach.split(',')) }))}
        />
      )}
    </Group>
  );
}
