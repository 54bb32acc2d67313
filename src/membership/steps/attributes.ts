import { sql } from 'kysely';
import { didYouMean, entryOf, LintelError } from '../../base/index.js';
import { type AttributeData, type Charter, readAttribute, type Setter } from '../../charter/index.js';
import type { Handlers } from '../change/index.js';
import { SAID_BY } from '../held/index.js';
import { insistOnHolder } from './holders.js';

/** @throws LintelError `unknown-attribute` with the near match. */
function declared({ data }: Charter, name: string): AttributeData {
  const found = entryOf(data.attributes ?? {}, name);
  if (found) return found;
  throw new LintelError('unknown-attribute', `the charter has no attribute "${name}"${didYouMean(name, Object.keys(data.attributes ?? {}))}`, {
    attribute: name,
  });
}

/**
 * What somebody may say of a member, in its one form.
 *
 * @param setter whose word it is.
 * @throws LintelError `unknown-attribute`, `bad-attribute`, `attribute-not-yours`.
 */
export function readAttributes(charter: Charter, given: Readonly<Record<string, unknown>>, setter: Setter): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(given).map(([name, value]) => {
      const data = declared(charter, name);
      const called = data.label ?? name;
      if (!data.setBy.includes(setter))
        throw new LintelError('attribute-not-yours', `“${called}” is not said by ${BY[setter]}, but by ${data.setBy.map((by) => BY[by]).join(' or ')}.`, {
          attribute: name,
        });
      if (value === null) return [name, null];
      const read = readAttribute(data, value);
      if (read !== undefined) return [name, read];
      const takes = data.options ? `one of ${data.options.join(', ')}` : data.type;
      const quoted = JSON.stringify(value)?.slice(0, 80) ?? 'nothing';
      throw new LintelError('bad-attribute', `${quoted} is no “${called}”: that is ${data.several ? `a list, each ${takes}` : takes}.`, { attribute: name });
    }),
  );
}

const BY: Readonly<Record<Setter, string>> = { source: 'a directory or a file', people: 'people here', member: 'the member' };

export const attributeSteps: Handlers<'set-attributes'> = {
  'set-attributes': {
    needs: ({ user }, { actor }) => (user === actor.userId ? undefined : 'member.assign'),
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user, attributes }) => {
      const { tx, tenantId, setting, actor } = change;
      await insistOnHolder(change, { user });
      // Whoever arranges says of themselves what people say; anybody else, what members may.
      const setter = user === actor.userId && !actor.may('member.assign') ? 'member' : 'people';
      const said = readAttributes(setting.charter, attributes, setter);
      const names = Object.keys(said);
      if (names.length === 0) throw new LintelError('nothing-to-change', 'name an attribute', {});
      const values = Object.fromEntries(Object.entries(said).filter(([, value]) => value !== null));
      const key = SAID_BY[setter];
      await sql`update lintel_member set attributes = jsonb_strip_nulls(attributes || jsonb_build_object(${key}::text,
          nullif((coalesce(attributes -> ${key}::text, '{}') - ${names}::text[]) || ${JSON.stringify(values)}::jsonb, '{}'::jsonb)))
        where tenant_id = ${tenantId} and user_id = ${user}`.execute(tx);
      // What they are is about a person, and so lies beside the event.
      return { what: 'attributes set', event: { user, attributes: names, by: setter }, words: { values: JSON.stringify(said) } };
    },
  },
};
