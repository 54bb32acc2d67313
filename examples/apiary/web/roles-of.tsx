import { Button, Stack, Text } from '@mantine/core';
import { type ReactNode, useState } from 'react';
import type { Assignment } from 'warm-lintel';
import { useRolesToGive } from 'warm-lintel/react';
import type { Member } from './api.js';
import { inForm, outOfForm } from './holding.js';
import { RoleChoice } from './parts.js';

/** Chooses a member's roles for the whole association; roles that are held elsewhere stay. */
export function RolesOf({ member, choose }: { member: Member; choose: (roles: Assignment[]) => void }): ReactNode {
  const { wide, kept: elsewhere } = inForm(member.roles.map(({ label: _, sources: __, ...held }) => held));
  const [chosen, setChosen] = useState(wide);
  const toGive = useRolesToGive().items;
  if (!toGive) return null;
  const kept = member.roles.filter(({ role, anchor }) => anchor.on === 'tenant' && !toGive.some((one) => one.role === role));
  return (
    <Stack>
      <RoleChoice label="Roles for the whole association" value={chosen} onChange={setChosen} />
      {kept.length > 0 && (
        <Text size="sm" className="quiet">
          Not yours to give or take: {kept.map(({ label }) => label).join(', ')}.
        </Text>
      )}
      <Button onClick={() => choose(outOfForm(chosen, elsewhere))}>See what it does</Button>
    </Stack>
  );
}
