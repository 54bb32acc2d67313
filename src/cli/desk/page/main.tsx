import './desk.css';
import { type ReactNode, StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import type { About, Person } from './about.js';
import { go, useAddress, useAnswer } from './address.js';
import { AppealsView } from './appeals.js';
import { ChangesView, CompareView, ProbeView, RehearsalView, ReviewView } from './findings.js';
import { Choice, Shown } from './parts.js';
import { TableView } from './table.js';
import { GivesView, WhyView } from './why.js';

const VIEWS: readonly (readonly [view: string, label: string, needs?: keyof About['has']])[] = [
  ['table', 'Table'],
  ['why', 'Why'],
  ['gives', 'What gives it'],
  ['compare', 'Side by side'],
  ['appeals', 'Asked for', 'membership'],
  ['review', 'Review'],
  ['changes', 'Changes', 'changes'],
  ['rehearsal', 'Rehearsal', 'rehearsal'],
  ['probe', 'Probe', 'probe'],
];

function View({ view, about, query }: { view: string; about: About; query: Readonly<Record<string, string>> }): ReactNode {
  const people = useAnswer<Person[]>('people', { tenant: query.tenant });
  switch (view) {
    case 'why':
      return <Shown of={people}>{(all) => <WhyView about={about} people={all} query={query} />}</Shown>;
    case 'compare':
      return <Shown of={people}>{(all) => <CompareView about={about} people={all} query={query} />}</Shown>;
    case 'appeals':
      return <Shown of={people}>{(all) => <AppealsView people={all} query={query} />}</Shown>;
    case 'gives':
      return <GivesView about={about} query={query} />;
    case 'review':
      return <ReviewView query={query} />;
    case 'changes':
      return <ChangesView query={query} />;
    case 'rehearsal':
      return <RehearsalView query={query} />;
    case 'probe':
      return <ProbeView />;
    default:
      return <TableView about={about} query={query} />;
  }
}

function Desk({ about }: { about: About }): ReactNode {
  const { view, query } = useAddress();
  const tenant = query.tenant ?? about.tenants[0]?.id ?? '';
  const here = { ...query, tenant };
  return (
    <>
      <header>
        <span className="name">Lintel desk</span>
        <nav aria-label="Views">
          {VIEWS.filter(([, , needs]) => needs === undefined || about.has[needs]).map(([one, label]) => (
            <a
              key={one}
              href={`/${one}?tenant=${encodeURIComponent(tenant)}`}
              aria-current={one === view ? 'page' : undefined}
              onClick={(event) => {
                if (event.metaKey || event.ctrlKey) return;
                event.preventDefault();
                go(one, { tenant });
              }}
            >
              {label}
            </a>
          ))}
        </nav>
        <Choice
          label="Organisation"
          value={tenant}
          onChange={(next) => go(view, { tenant: next })}
          options={about.tenants.map(({ id, name }) => ({ id, label: name }))}
        />
      </header>
      <main key={`${view} ${tenant}`}>
        <View view={view} about={about} query={here} />
      </main>
    </>
  );
}

function App(): ReactNode {
  const about = useAnswer<About>('about', {});
  return <Shown of={about}>{(data) => <Desk about={data} />}</Shown>;
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <App />
  </StrictMode>,
);
