import type { Charter, KindData } from '../../charter/index.js';

/** A record as it was, by column: as much of it as is kept. */
export type Image = Readonly<Record<string, unknown>>;

/** A JSON cell, which some databases give as text. */
export const parsed = <T>(cell: unknown): T | null => (typeof cell === 'string' ? JSON.parse(cell) : cell) as T | null;

/** The kinds of which a journal is kept. */
export const journaledKinds = ({ data: { kinds } }: Charter): string[] => Object.keys(kinds).filter((kind) => kinds[kind]?.journal !== undefined);

/** Fields on which it turns who reaches a record, by what they are for. */
const TURNS_ON = ['id', 'tenant', 'owner', 'maker', 'unit', 'group', 'parent', 'person'];

/** The fields of a kind of which it is told. */
export function journaledFields({ journal, fields }: KindData): string[] {
  return (journal?.fields ?? Object.keys(fields)).filter((field) => fields[field]?.role !== 'people');
}

/** Beside the columns of an image, which none is called: lists of people, by field. */
export const LISTS = '';

/** The lists of people of which it is told: what a change of them through the library does. Images of a record hold them only then. */
export function journaledLists({ journal, fields }: KindData): string[] {
  return Object.keys(fields).filter((field) => fields[field]?.role === 'people' && (journal?.fields?.includes(field) ?? true));
}

/** The fields of which images are kept: those of which it is told, and those on which it turns who may be told. */
export function imageFields(charter: Charter, kind: string): string[] {
  const data = charter.kind(kind);
  const told = new Set(journaledFields(data));
  const rules = JSON.stringify([data.reaches, charter.data.limits[kind] ?? {}]);
  return Object.entries(data.fields)
    .filter(([field, { role }]) => role !== 'people' && (told.has(field) || TURNS_ON.includes(role) || rules.includes(`"field":"${field}"`)))
    .map(([field]) => field);
}
