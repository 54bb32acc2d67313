import type { Charter, May } from '../charter/index.js';
import { print } from '../predicate/index.js';

const list = (names: readonly string[]) => (names.length === 0 ? 'nothing' : names.join(', '));

/**
 * What the words of an access table rest on, by a name and as a line each: tables, reaches, limits, guarded fields, roles, and what everybody may. A table says `own`;
 * this says of which record that is so, so that a rule that comes to mean something else under its old name shows.
 */
export function meaningsOf(charter: Charter<any>): Map<string, string> {
  const { kinds, limits, roles, obligations, apart, everyMember, signedIn, visitor } = charter.data;
  const all = new Map<string, string>();
  for (const [kind, { table, schema, reaches, fields, base = [], journal }] of Object.entries(kinds)) {
    all.set(kind, `the table ${schema === undefined ? '' : `${schema}.`}${table}`);
    for (const [reach, where] of Object.entries(reaches)) all.set(`${kind}: ${reach}`, print(where));
    if (journal)
      all.set(
        `${kind}: journal`,
        `of ${list(journal.fields ?? ['all fields'])}, shown with ${kind}.${journal.shownBy ?? 'read'}${journal.earlier === 'hidden' ? ', not of what was hidden then' : ''}`,
      );
    if (base.length > 0) all.set(`${kind}: base`, `one of ${list(base)}, as the organisation chooses`);
    for (const [field, { role, read, change, follow, through, column, link }] of Object.entries(fields)) {
      const is =
        role === 'parent'
          ? `parent, ${follow === false ? 'not ' : ''}followed${through ? ', its tenant’s' : ''}`
          : ['plain', 'id', 'tenant'].includes(role)
            ? ''
            : role;
      const from = link && `through ${link.table} (${[link.tenant ?? [], link.record, link.user].flat().join(', ')})`;
      const said = [is, column && `the column ${column}`, from, read && `seen with ${kind}.${read}`, change && `changed with ${kind}.${change}`].filter(
        Boolean,
      );
      if (said.length > 0) all.set(`${kind}.${field}`, said.join('; '));
    }
    for (const [limit, { actions, where, before }] of Object.entries(limits[kind] ?? {}))
      all.set(`${kind}: limit ${limit}`, `no ${list(actions)} where ${print(where)}${before ? ' (as it was before)' : ''}`);
  }
  for (const [role, { includes, gives }] of Object.entries(roles)) all.set(`role ${role}`, `includes ${list(includes)}; gives ${list(gives)}`);
  for (const { name, kind, perUnit, feature, channels } of charter.permissions.values()) {
    const said = [kind === undefined && perUnit && 'also for a unit', feature && `with ${feature}`, channels && `by ${list(channels)}`].filter(Boolean);
    if (said.length > 0) all.set(name, said.join('; '));
  }
  for (const [name, { before }] of Object.entries(obligations)) all.set(`obligation ${name}`, `before ${before === 'everything' ? before : list(before)}`);
  for (const [name, { hold }] of Object.entries(apart)) all.set(`apart ${name}`, list(hold));
  const everybody = (who: string, may: May) => {
    for (const [permission, reaches] of Object.entries(may)) all.set(`${who}: ${permission}`, list(reaches));
  };
  everybody('every member', everyMember);
  everybody('signed in', signedIn);
  everybody('visitor', visitor);
  return all;
}
