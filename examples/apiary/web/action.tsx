import { Button, type ButtonProps, Text, Textarea } from '@mantine/core';
import { type ReactNode, useId, useState } from 'react';
import type { Decision } from 'warm-lintel';
import { useClient, useDecision, useStanding } from 'warm-lintel/react';
import { Link } from 'wouter';
import { Dialog } from './parts.js';
import { Trouble, useTry } from './trouble.js';

interface ActionProps {
  action: string;
  record?: object;
  onClick: () => void;
  children: ReactNode;
  variant?: ButtonProps['variant'];
}

/**
 * A button for an action. Where the action is refused it stays in its place, grey, with the reason beside it; it can be focused, so that the reason is read. Where one has to
 * do something first, that is asked on the way.
 */
export function ActionButton(props: ActionProps): ReactNode {
  const { action, record, onClick, children, variant } = props;
  const decision = useDecision(action, record);
  const { tenant, look, me } = useStanding().facts;
  const id = useId();
  if (look && !decision.allowed) return <InLook decision={decision} as={me.name ?? ''} tries={look.tries === true} {...props} />;
  const asks = decision.outcome === 'no grant' || decision.outcome === 'out of reach' ? (record as { id?: string } | undefined)?.id : undefined;
  if (decision.allowed || decision.outcome === 'obligation') {
    return (
      <Button variant={variant ?? 'filled'} onClick={onClick}>
        {children}
      </Button>
    );
  }
  return (
    <div>
      <Button variant="default" aria-disabled="true" aria-describedby={id}>
        {children}
      </Button>
      <div id={id} className="why">
        {decision.words}
      </div>
      {asks !== undefined && <AskForIt tenant={tenant.id} action={action} record={asks} />}
    </div>
  );
}

/** The same button in a list, small; where it is refused the list says so once, by {@link Refused}, and not in each of its rows. */
export function RowButton(props: ActionProps & { label: string }): ReactNode {
  const { action, record, onClick, children, variant, label } = props;
  const { allowed, outcome, could } = useDecision(action, record);
  const { look } = useStanding().facts;
  const isTried = could?.allowed === true && look?.tries === true;
  if (!allowed && outcome !== 'obligation' && could?.allowed !== true) return null;
  return (
    <Button
      size="compact-sm"
      variant={variant ?? 'light'}
      aria-label={label}
      className={could ? 'looked' : undefined}
      aria-disabled={could && !isTried ? 'true' : undefined}
      onClick={could && !isTried ? undefined : onClick}
    >
      {children}
    </Button>
  );
}

/** Why what a list lets others do is not there: one line for each. */
export function Refused({ actions, record }: { actions: readonly string[]; record?: object }): ReactNode {
  const standing = useStanding();
  const { look, me } = standing.facts;
  return actions.map((action) => {
    const { allowed, outcome, words, could } = standing.decide(action as never, record as never);
    if (allowed || outcome === 'obligation') return null;
    const said =
      could?.allowed !== true
        ? (could?.words ?? words)
        : look?.tries
          ? `Tried as ${me.name}, and taken back.`
          : `${me.name} could. It is not carried out here.`;
    return (
      <div key={action} className="why">
        {standing.charter.permission(action).label}: {said}
      </div>
    );
  });
}

/** The button as the person looked as has it: marked as not carried out, or as tried; where they have none, there is none. */
function InLook(props: ActionProps & { decision: Decision; as: string; tries: boolean }): ReactNode {
  const { decision, as, tries, onClick, children, variant } = props;
  const id = useId();
  const could = decision.could?.allowed;
  if (could !== true)
    return (
      <div className="why">
        {children}: {decision.could?.words}
      </div>
    );
  return (
    <div>
      <Button
        className="looked"
        variant={tries ? (variant ?? 'filled') : 'default'}
        aria-disabled={tries ? undefined : 'true'}
        aria-describedby={id}
        onClick={tries ? onClick : undefined}
      >
        {children}
      </Button>
      <div id={id} className="why">
        {tries ? `Tried as ${as}, and taken back.` : `${as} could. It is not carried out here.`}
      </div>
    </div>
  );
}

/** Asks for an action that was refused. */
export function AskForIt({ tenant, action, record }: { tenant: string; action: string; record: string }): ReactNode {
  const [open, setOpen] = useState(false);
  const [words, setWords] = useState('');
  const [asked, setAsked] = useState(false);
  const client = useClient();
  const asking = useTry();
  const ask = () =>
    asking.run(async () => {
      await client.raiseAppeal({ tenant, action, record, ...(words && { words }) });
      setAsked(true);
      setOpen(false);
    });
  if (asked)
    return (
      <Text span size="sm" role="status">
        Asked for. <Link href={`/t/${tenant}/appeals`}>What I asked for</Link>
      </Text>
    );
  return (
    <>
      <Button size="compact-xs" variant="subtle" onClick={() => setOpen(true)}>
        Ask for it
      </Button>
      <Dialog opened={open} onClose={() => setOpen(false)} title="Ask for it">
        <Text size="sm" mb="sm">
          Those who can give it to you are told. They see which change would be the smallest, and agree or decline.
        </Text>
        <Textarea label="Why" value={words} onChange={(event) => setWords(event.currentTarget.value)} maxLength={500} autosize minRows={2} data-autofocus />
        <Trouble error={asking.error} />
        <Button mt="md" loading={asking.busy} onClick={ask}>
          Ask
        </Button>
      </Dialog>
    </>
  );
}
