import { Checkbox, NativeSelect, Stack, TextInput, Title } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import { DEMAND_HOURS } from 'warm-lintel';
import type { Answered } from 'warm-lintel/client';
import { useChange, useRead } from 'warm-lintel/react';
import { ActionButton } from './action.js';
import { Changing } from './change.js';
import { NotOpen } from './not-open.js';
import { PeopleTabs, RoleChoice } from './parts.js';

type Rules = Answered<'rules'>;

/** Who may come in without an invitation, whether somebody may have several roles, and what is asked of every member's sign-in. */
export function RulesPage({ tenant }: { tenant: string }): ReactNode {
  const rules = useRead('rules');
  if (rules.error) return <NotOpen tenant={tenant} title="Rules" error={rules.error} />;
  if (!rules.data) return null;
  return (
    <>
      <PeopleTabs tenant={tenant} />
      <Title order={1}>Rules</Title>
      <RulesForm key={JSON.stringify(rules.data)} rules={rules.data} />
    </>
  );
}

function RulesForm({ rules }: { rules: Rules }): ReactNode {
  const [oneRole, setOneRole] = useState(rules.oneRole);
  const [joining, setJoining] = useState(rules.joining);
  const [domains, setDomains] = useState(joining.domains.join(', '));
  const [demands, setDemands] = useState(rules.demands);
  const change = useChange();
  const set = (part: Partial<Rules['joining']>) => setJoining({ ...joining, ...part });
  const listed = domains.split(/[\s,]+/).filter((domain) => domain !== '');
  const propose = () => {
    const roles = joining.roles.map(({ role }) => ({ role, anchor: { on: 'tenant' } as const }));
    change.show([{ do: 'set-rules', oneRole, joining: { ...joining, domains: listed, roles }, demands }], 'Rules');
  };
  return (
    <Stack mt="md" className="sheet" align="flex-start">
      <Checkbox
        label="Whoever has an account may ask to be let in"
        description="They give their name and a few words, and wait until somebody who invites people answers."
        checked={joining.asks}
        onChange={(event) => set({ asks: event.currentTarget.checked })}
      />
      <TextInput
        label="Domains of addresses"
        description="What stands behind the @, several with commas: alderbrook.example"
        value={domains}
        onChange={(event) => setDomains(event.currentTarget.value)}
      />
      <Checkbox
        label="Only addresses of these domains come in"
        description="By invitation as well. Members stay."
        checked={joining.only}
        onChange={(event) => set({ only: event.currentTarget.checked })}
      />
      <Checkbox
        label="People of these domains come in by themselves"
        description="Once their address is proven to be theirs. Whoever was removed does not."
        checked={joining.open}
        onChange={(event) => set({ open: event.currentTarget.checked })}
      />
      {joining.open && (
        <RoleChoice
          label="With these roles"
          value={joining.roles.map(({ role }) => role)}
          onChange={(roles) => set({ roles: roles.map((role) => ({ role, anchor: { on: 'tenant' } })) })}
        />
      )}
      <Checkbox label="Everybody has one role at most" checked={oneRole} onChange={(event) => setOneRole(event.currentTarget.checked)} />
      <Checkbox
        label="Everybody signs in with a second factor"
        description="Before they do anything here. You do it yourself before you can ask it of others."
        checked={demands.secondFactor === true}
        onChange={(event) => setDemands({ ...demands, secondFactor: event.currentTarget.checked })}
      />
      <NativeSelect
        label="Everybody shows again who they are"
        description="After so long, before they do anything else here."
        maw={420}
        value={demands.hours ?? ''}
        onChange={({ currentTarget: { value } }) => {
          const { hours: _, ...others } = demands;
          const hours = DEMAND_HOURS.find((one) => String(one) === value);
          setDemands({ ...others, ...(hours !== undefined && { hours }) });
        }}
        data={[
          { value: '', label: 'only as the sign-in ends' },
          ...DEMAND_HOURS.map((hours) => ({ value: String(hours), label: hours === 1 ? 'every hour' : hours === 168 ? 'every week' : `every ${hours} hours` })),
        ]}
      />
      <Changing change={change} />
      <ActionButton action="tenant.rule" onClick={propose}>
        See what it does
      </ActionButton>
    </Stack>
  );
}
