import { Alert, Button, Group, Text } from '@mantine/core';
import type { ReactNode } from 'react';
import type { Change } from 'warm-lintel/react';
import type { Effect, Proposal } from 'warm-lintel/server';
import { Dialog, wayWords } from './parts.js';
import { First, Trouble } from './trouble.js';

const ways = (list: readonly string[]) => (list.length === 0 ? 'not at all' : list.map(wayWords).join(', '));

const day = (moment: string) => new Date(moment).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' });

function EffectOn({ effect }: { effect: Effect }): ReactNode {
  const { people, fullControl, permissions, from, until } = effect;
  const more = people.count - people.some.length;
  return (
    <section aria-label={people.some.map(({ name }) => name).join(', ')}>
      <Text fw={600}>
        {people.some.map(({ name }) => name).join(', ')}
        {more > 0 && ` and ${more} more`}
        {from && ` from ${day(from)} on`}
        {until && ` until ${day(until)}`}
      </Text>
      {fullControl && (
        <Alert color={fullControl === 'gains' ? 'red' : 'honey'} my="xs">
          {fullControl === 'gains' ? 'Comes to hold full control.' : 'No longer holds full control.'}
        </Alert>
      )}
      <ul className="effect">
        {permissions.map((p) => (
          <li key={p.permission} className={p.change}>
            {p.label}
            <Text span size="sm" className="quiet">
              : {ways(p.was)} → {ways(p.becomes)}
              {p.records && `; records ${p.records.was} → ${p.records.becomes}`}
              {p.records && p.records.examples.length > 0 && ` (${p.records.examples.map(({ label, id }) => label ?? String(id)).join(', ')})`}
              {p.records === null && '; records not counted'}
            </Text>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What a change would do, and what stands against it. @param onMet what has to be done first is done: it can be looked at again. */
export function ProposalView({ proposal, onMet }: { proposal: Proposal; onMet?: () => void }): ReactNode {
  const closes = proposal.steps.some((step) => step.do === 'close-tenant');
  return (
    <div aria-live="polite">
      {proposal.problems.map(({ code, message, obligation = code === 'prove-first' ? 'recentSignIn' : undefined }) =>
        obligation !== undefined && onMet ? (
          <First key={code} obligation={obligation} why={message} onDone={onMet} />
        ) : (
          <Alert key={code + message} color="red" mb="sm" role="alert">
            {message}
          </Alert>
        ),
      )}
      {proposal.handed?.map(({ kind, called, handed, left }) => (
        <Text key={kind} mb="sm">
          {handed} {called} {handed === 1 ? 'is' : 'are'} handed over{left > 0 && `; ${left} ${left === 1 ? 'stays' : 'stay'}, which you may not hand over`}.
        </Text>
      ))}
      {closes && <Text mb="sm">Nobody comes in any more, whatever they hold. It stays so until it is opened again.</Text>}
      {proposal.people === 0 && !closes && !proposal.handed && proposal.problems.length === 0 && <Text mb="sm">Nobody gains or loses anything by it.</Text>}
      {proposal.effects.map((effect) => (
        <EffectOn key={effect.people.some.map(({ id }) => id).join()} effect={effect} />
      ))}
    </div>
  );
}

/** Shows a change before it is made, and carries it out; or why it could not be looked at. */
export function Changing({ change }: { change: Change }): ReactNode {
  const { proposal, about, busy, error, show, carryOut, leave } = change;
  return (
    <>
      {!proposal && <Trouble error={error} />}
      <Dialog opened={proposal !== undefined} onClose={leave} title={about} size="lg">
        {proposal && (
          <>
            <ProposalView proposal={proposal} onMet={() => void show(proposal.steps, about)} />
            <Trouble error={error} />
            <Group mt="md">
              <Button loading={busy} onClick={carryOut} disabled={proposal.problems.length > 0}>
                Carry it out
              </Button>
              <Button variant="default" onClick={leave}>
                Leave it
              </Button>
            </Group>
          </>
        )}
      </Dialog>
    </>
  );
}
