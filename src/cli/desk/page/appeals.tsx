import { type ReactNode, useState } from 'react';
import type { AppealToAnswer, Remedies as Found } from '../../../server/index.js';
import type { Person } from './about.js';
import { go, send, useAnswer } from './address.js';
import { Choice, Line, Sheet, Shown, Trouble } from './parts.js';
import { Remedies } from './why.js';

type Query = Readonly<Record<string, string>>;

/** One of those that wait: what would allow it, and the answer. */
function Answering({ appeal, query, done }: { appeal: AppealToAnswer; query: Query; done: () => void }): ReactNode {
  const { tenant = '', as = '' } = query;
  const [reason, setReason] = useState('');
  const [error, setError] = useState<string>();
  const found = useAnswer<Found>('remedies', { tenant, as, person: appeal.userId, action: appeal.action, record: appeal.recordId });
  const answer = (words: string) => send('answer-appeal', { tenant, as, appeal: appeal.id, reason, words }).then(done);
  return (
    <section aria-label="Answer">
      <h2>
        {appeal.name}: {appeal.what} {appeal.record && `“${appeal.record}”`}
      </h2>
      <Line label="Why, which is told to them" value={reason} maxLength={500} onChange={setReason} />
      <Remedies found={found} make={answer} making="Agree, and do it" records />
      <p>
        <button type="button" onClick={() => void answer('').catch((failed: Error) => setError(failed.message))}>
          Decline
        </button>
      </p>
      {error !== undefined && <Trouble error={error} />}
    </section>
  );
}

/** What those who were refused ask for, as somebody sees it who may answer. */
export function AppealsView({ people, query }: { people: readonly Person[]; query: Query }): ReactNode {
  const { tenant = '', as = '', appeal = '' } = query;
  const open = useAnswer<AppealToAnswer[]>('appeals', as === '' ? undefined : { tenant, as });
  return (
    <>
      <h1>What was asked for</h1>
      <div className="row">
        <Choice
          label="In the name of"
          value={as}
          none="choose who answers"
          onChange={(next) => go('appeals', { tenant, as: next })}
          options={people.map(({ id, name }) => ({ id, label: name }))}
        />
      </div>
      {as !== '' && (
        <Shown of={open}>
          {(all) => {
            const chosen = all.find(({ id }) => id === appeal);
            if (all.length === 0) return <p className="verdict yes">Nothing waits for an answer of theirs.</p>;
            return (
              <>
                <Sheet title="What waits" head={['who', 'asks for', 'record', 'why', 'since', 'answer']}>
                  {all.map((one) => (
                    <tr key={one.id}>
                      <th scope="row">{one.name}</th>
                      <td>{one.what}</td>
                      <td>{one.record ?? '–'}</td>
                      <td>{one.words ?? ''}</td>
                      <td>{String(one.raisedAt).slice(0, 10)}</td>
                      <td>
                        <button type="button" aria-pressed={one.id === appeal} onClick={() => go('appeals', { tenant, as, appeal: one.id })}>
                          Answer
                        </button>
                      </td>
                    </tr>
                  ))}
                </Sheet>
                {chosen && <Answering key={chosen.id} appeal={chosen} query={query} done={open.again} />}
              </>
            );
          }}
        </Shown>
      )}
    </>
  );
}
