export { type AttributeData, attributeFromText, readAttribute, type Setter } from './attributes.js';
export { canonicalJson } from './canonical.js';
export { Charter, type CharterTypes, followedFields, type Limit, type Permission, reachesOfKind, snakeCase, type TypesIn } from './charter.js';
export type { AreaData, CharterData, JournalData, KindData, LimitData, May, ObligationData, PermissionWords, RoleData } from './data.js';
export { defineCharter, defineKinds } from './define.js';
export {
  decimal,
  type Field,
  type FieldData,
  type FieldRole,
  flag,
  group,
  id,
  instant,
  integer,
  maker,
  oneOf,
  owner,
  parent,
  people,
  person,
  tenant,
  text,
  through,
  unit,
} from './field.js';
export { nameNow, roleNow } from './former.js';
export { type Identified, idType } from './ids.js';
export { type AboutPeople, CHOOSE, HOLDERS, KEYHOLDER, RESERVED_KINDS, restsOnRead } from './operations.js';
export { readCharter, readRole } from './read.js';
