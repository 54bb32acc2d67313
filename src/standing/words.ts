import type { Charter } from '../charter/index.js';

/** All words that a decision says to the person concerned. An application replaces any of them, by language. */
export const ENGLISH = {
  allowed: 'You may {act}.',
  hidden: 'There is no such {kind}.',
  expired: 'This page is out of date. Load it again.',
  limit: '{record} stays as it is: {sentence}',
  look: 'You look as {name}: you change nothing, and see no more than before.',
  channel: 'From here you cannot {act}. It is done by: {channels}.',
  nowhere: 'Nobody can {act} at present.',
  obligation: 'One thing first: {sentence}',
  plan: '“{feature}” is not part of the plan of {tenant}.',
  noGrant: 'No role of yours lets you {act}.',
  outOfReach: 'You may {act} only where {reach}. That is not so for {record}.',
  field: 'You may {act}, but {field} takes the right to {needed}.',
  unknown: 'That rests on what you may not know.',
  notLoaded: 'Whether you may {act} shows when the record is loaded.',
  askContact: 'Ask {contact}.',
  askKeyholder: 'Ask {keyholder} of {tenant}.',
  thisRecord: 'this {kind}',
  or: ' or ',
} as const;

/** All words that are shown to people, in one language. */
export type Words = { readonly [key in keyof typeof ENGLISH]: string };

/** `Change a hive` inside a sentence: `change a hive`. */
export function inSentence(label: string): string {
  return label.charAt(0).toLowerCase() + label.slice(1);
}

/** Somebody with full control, by what that is called in an application: `a keyholder`. */
export function aKeyholder({ data }: Charter<any>): string {
  const label = inSentence(data.keyholder.label);
  return `${/^[aeiou]/.test(label) ? 'an' : 'a'} ${label}`;
}

/** Fills `{name}` places of one entry. */
export function say(words: Words, key: keyof Words, values: Readonly<Record<string, string>> = {}): string {
  return words[key].replace(/\{(\w+)\}/g, (place, name: string) => values[name] ?? place);
}
