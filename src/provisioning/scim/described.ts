import type { Charter } from '../../charter/index.js';
import { GROUP } from './resources.js';
import { DECLARED, USER } from './user.js';

const SCHEMA = 'urn:ietf:params:scim:schemas:core:2.0:Schema';

/** What can be asked (RFC 7643, section 5). */
export const SERVICE = {
  schemas: ['urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig'],
  patch: { supported: true },
  bulk: { supported: false, maxOperations: 0, maxPayloadSize: 0 },
  filter: { supported: true, maxResults: 500 },
  changePassword: { supported: false },
  sort: { supported: false },
  etag: { supported: true },
  authenticationSchemes: [{ type: 'oauthbearertoken', name: 'Bearer', description: 'The key of a program, as a bearer token (RFC 6750)', primary: true }],
};

const attribute = (name: string, more: object = {}) => ({
  name,
  type: 'string',
  multiValued: false,
  required: false,
  caseExact: false,
  mutability: 'readWrite',
  returned: 'default',
  uniqueness: 'none',
  description: name,
  ...more,
});
const readOnly = { mutability: 'readOnly' };

export const resourceTypes = (base: string) => [
  {
    schemas: ['urn:ietf:params:scim:schemas:core:2.0:ResourceType'],
    id: 'User',
    name: 'User',
    endpoint: '/Users',
    schema: USER,
    schemaExtensions: [{ schema: DECLARED, required: false }],
    meta: { resourceType: 'ResourceType', location: `${base}/ResourceTypes/User` },
  },
  {
    schemas: ['urn:ietf:params:scim:schemas:core:2.0:ResourceType'],
    id: 'Group',
    name: 'Group',
    endpoint: '/Groups',
    schema: GROUP,
    meta: { resourceType: 'ResourceType', location: `${base}/ResourceTypes/Group` },
  },
];

const TYPES: Readonly<Record<string, string>> = { boolean: 'boolean', integer: 'integer', decimal: 'string', instant: 'dateTime' };

/** What is kept of users and groups; the attributes that the charter declares among it. */
export function schemas(charter: Charter<any>, base: string) {
  const meta = (id: string) => ({ resourceType: 'Schema', location: `${base}/Schemas/${id}` });
  const declared = Object.entries(charter.data.attributes ?? {}).filter(([, { setBy }]) => setBy.includes('source'));
  return [
    {
      schemas: [SCHEMA],
      id: USER,
      name: 'User',
      description: 'Somebody who is expected, or has come',
      attributes: [
        attribute('userName', { required: true, uniqueness: 'server' }),
        attribute('externalId', { caseExact: true }),
        attribute('name', { type: 'complex', subAttributes: ['formatted', 'familyName', 'givenName', 'middleName'].map((name) => attribute(name)) }),
        attribute('displayName'),
        attribute('emails', {
          type: 'complex',
          multiValued: true,
          subAttributes: [attribute('value'), attribute('type'), attribute('primary', { type: 'boolean' })],
        }),
        attribute('active', { type: 'boolean' }),
        attribute('groups', { type: 'complex', multiValued: true, ...readOnly, subAttributes: [attribute('value', readOnly), attribute('display', readOnly)] }),
      ],
      meta: meta(USER),
    },
    {
      schemas: [SCHEMA],
      id: GROUP,
      name: 'Group',
      description: 'A group of people whom this directory brought',
      attributes: [
        attribute('displayName', { required: true }),
        attribute('externalId', { caseExact: true }),
        attribute('members', {
          type: 'complex',
          multiValued: true,
          subAttributes: [attribute('value', { mutability: 'immutable' }), attribute('display', readOnly), attribute('type', { mutability: 'immutable' })],
        }),
      ],
      meta: meta(GROUP),
    },
    {
      schemas: [SCHEMA],
      id: DECLARED,
      name: 'Attributes',
      description: 'What the application declares about people',
      attributes: declared.map(([name, { type, several, options, label }]) =>
        attribute(name, {
          type: TYPES[type] ?? 'string',
          multiValued: several === true,
          description: label ?? name,
          ...(options && { canonicalValues: options }),
        }),
      ),
      meta: meta(DECLARED),
    },
  ];
}
