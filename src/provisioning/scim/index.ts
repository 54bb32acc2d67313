export { resourceTypes, SERVICE, schemas } from './described.js';
export { ScimError } from './error.js';
export { equalTo, holds, readFilter } from './filter.js';
export { patched } from './patch.js';
export { etagOf, groupOf, readGroup, shown, userOf } from './resources.js';
export { homeIn, readUser } from './user.js';
