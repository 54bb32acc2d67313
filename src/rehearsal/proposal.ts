import type { Effect, PermissionEffect, Proposal } from '../server/index.js';
import { type Colours, plain } from '../terminal/index.js';
import { escapeMarkdown } from './print.js';

const MARKS = { gains: '+', loses: '-', differs: '~' } as const;
const ways = (list: readonly string[]) => (list.length === 0 ? 'not at all' : list.join(', '));

function recordsOf({ records }: PermissionEffect): string {
  if (records === undefined) return '';
  if (records === null) return 'not counted';
  const named = records.examples.map(({ id, label }) => label ?? id);
  return `${records.was} -> ${records.becomes}${named.length > 0 ? `, such as ${named.join(', ')}` : ''}`;
}

/** From when until when, where it is not at once and for good. */
function timeOf({ from, until }: Effect): string {
  const minute = (moment: string) => `${moment.slice(0, 16).replace('T', ' ')}Z`;
  return [from && ` from ${minute(from)}`, until && ` until ${minute(until)}`].filter(Boolean).join('');
}

function peopleOf(effect: Effect): string {
  const { people, fullControl } = effect;
  const named = people.some.map(({ name }) => name).join(', ');
  const more = people.count > people.some.length ? ` and ${people.count - people.some.length} more` : '';
  const control = fullControl === undefined ? '' : fullControl === 'gains' ? ': comes to hold full control' : ': no longer holds full control';
  return `${named}${more}${timeOf(effect)}${control}`;
}

function summaryOf({ people, problems, steps }: Proposal): string {
  if (problems.length === 0 && steps.some((step) => step.do === 'close-tenant')) return 'Nobody comes in any more, whatever they hold.';
  const whom =
    people === 0 ? 'Nobody gains or loses anything by it.' : `${people} ${people === 1 ? 'person gains or loses' : 'people gain or lose'} something by it.`;
  if (problems.length === 0) return whom;
  return people === 0 ? 'It cannot be carried out.' : `${whom} It cannot be carried out.`;
}

const handedLines = ({ handed = [] }: Proposal) =>
  handed.map(({ called, from, to, handed: count, left }) => {
    const stay = left > 0 ? `; ${left} ${left === 1 ? 'stays' : 'stay'}, which you may not hand over` : '';
    return `${count} ${called} of ${from} ${count === 1 ? 'goes' : 'go'} to ${to}${stay}.`;
  });

/** What a change would do, for a terminal. */
export function printProposal(proposal: Proposal, colours: Colours = plain): string {
  const paint = { gains: colours.green, loses: colours.red, differs: colours.magenta };
  const wide = Math.max(0, ...proposal.effects.flatMap(({ permissions }) => permissions.map(({ label }) => label.length)));
  const effects = proposal.effects.flatMap((effect) => [
    '',
    colours.bold(peopleOf(effect)),
    ...effect.permissions.map((p) => {
      const records = recordsOf(p);
      return `  ${paint[p.change](MARKS[p.change])} ${p.label.padEnd(wide)}  ${ways(p.was)} -> ${ways(p.becomes)}${records && colours.dim(`  (${records})`)}`;
    }),
  ]);
  const problems = proposal.problems.map(({ message, code }) => `${colours.red(message)}  ${colours.dim(code)}`);
  const counted = proposal.effects.some(({ permissions }) => permissions.some(({ records }) => records));
  const legend = counted ? ['', colours.dim(`records that at least one of them reaches, before -> after, as counted at ${proposal.at.slice(0, 19)}Z`)] : [];
  return [summaryOf(proposal), ...handedLines(proposal), ...problems, ...effects, ...legend].join('\n');
}

/** The same as Markdown. */
export function proposalMarkdown(proposal: Proposal): string {
  const row = (p: PermissionEffect) => `| ${p.change} | ${[p.label, ways(p.was), ways(p.becomes), recordsOf(p)].map(escapeMarkdown).join(' | ')} |`;
  const effects = proposal.effects.flatMap((effect) => [
    '',
    `**${escapeMarkdown(peopleOf(effect))}**`,
    '',
    '| | permission | was | becomes | records |',
    '| --- | --- | --- | --- | --- |',
    ...effect.permissions.map(row),
  ]);
  return [
    summaryOf(proposal),
    ...handedLines(proposal).map(escapeMarkdown),
    ...proposal.problems.map(({ message, code }) => `- ${escapeMarkdown(message)} (${code})`),
    ...effects,
  ].join('\n');
}
