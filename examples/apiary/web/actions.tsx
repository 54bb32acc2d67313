import { Button, type ButtonProps, Group } from '@mantine/core';
import { type ReactNode, useId } from 'react';
import type { Decision } from 'warm-lintel';
import { useStanding } from 'warm-lintel/react';
import { AskForIt } from './action.js';

interface Act {
  readonly action: string;
  readonly label: string;
  readonly onClick: () => void;
  readonly variant?: ButtonProps['variant'];
}

const sentences = (words: string) => words.split(/(?<=\.) (?=[A-Z])/);

/** The last sentences that all have in common: they are said once. */
function endOf(all: readonly (readonly string[])[]): readonly string[] {
  const [first = []] = all;
  let count = 0;
  while (count < first.length - 1 && all.every((one) => one.at(-1 - count) === first.at(-1 - count))) count++;
  return count === 0 ? [] : first.slice(-count);
}

/** What can be done to one record, as buttons side by side; those that are refused are grey, and why stands below them all. */
export function Actions({ record, acts }: { record: { id: string }; acts: readonly Act[] }): ReactNode {
  const standing = useStanding();
  const id = useId();
  const { look, tenant } = standing.facts;
  if (look) return <InLook record={record} acts={acts} />;
  const judged = acts.map((act) => ({ ...act, decision: standing.decide(act.action as never, record as never) as Decision }));
  const refused = judged.filter(({ decision: { allowed, outcome } }) => !allowed && outcome !== 'obligation');
  const end = refused.length > 1 ? endOf(refused.map(({ decision }) => sentences(decision.words))) : [];
  return (
    <>
      <Group gap="sm">
        {judged.map(({ label, variant, onClick, ...one }) => {
          const at = refused.findIndex((other) => other.label === label);
          return at === -1 ? (
            <Button key={label} variant={variant ?? 'filled'} onClick={onClick}>
              {label}
            </Button>
          ) : (
            <Button key={one.action + label} variant="default" aria-disabled="true" aria-describedby={`${id}-${at}${end.length > 0 ? ` ${id}-end` : ''}`}>
              {label}
            </Button>
          );
        })}
      </Group>
      {refused.length > 0 && (
        <ul className="whys">
          {refused.map(({ action, label, decision }, at) => (
            <li key={label}>
              <span id={`${id}-${at}`}>
                {sentences(decision.words)
                  .slice(0, sentences(decision.words).length - end.length)
                  .join(' ')}
              </span>{' '}
              {['no grant', 'out of reach'].includes(decision.outcome) && <AskForIt tenant={tenant.id} action={action} record={record.id} />}
            </li>
          ))}
        </ul>
      )}
      {end.length > 0 && (
        <div id={`${id}-end`} className="why">
          {end.join(' ')}
        </div>
      )}
    </>
  );
}

/** The same as the person looked as has it: what they could do is marked as not carried out, or as tried; what they could not is told. */
function InLook({ record, acts }: { record: { id: string }; acts: readonly Act[] }): ReactNode {
  const standing = useStanding();
  const id = useId();
  const { look, me } = standing.facts;
  const judged = acts.map((act) => ({ ...act, could: standing.decide(act.action as never, record as never).could }));
  const others = judged.filter(({ could }) => could?.allowed !== true);
  return (
    <>
      <Group gap="sm">
        {judged.map(({ label, variant, onClick, could }) =>
          could?.allowed === true ? (
            <Button
              key={label}
              className="looked"
              variant={look?.tries ? (variant ?? 'filled') : 'default'}
              aria-disabled={look?.tries ? undefined : 'true'}
              aria-describedby={id}
              onClick={look?.tries ? onClick : undefined}
            >
              {label}
            </Button>
          ) : null,
        )}
      </Group>
      {others.length < judged.length && (
        <div id={id} className="why">
          {look?.tries ? `Tried as ${me.name}, and taken back.` : `${me.name} could. It is not carried out here.`}
        </div>
      )}
      <ul className="whys">
        {others.map(({ label, could }) => (
          <li key={label}>
            {label}: {could?.words}
          </li>
        ))}
      </ul>
    </>
  );
}
