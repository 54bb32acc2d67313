export { Boundary, type ScopeSupport } from './boundary.js';
export { writerFor } from './dialect.js';
export { type FindOptions, find, loadRaw } from './find.js';
export { type Fragment, joinFragments, sqlText } from './fragment.js';
export { ScopedDb } from './scope.js';
export { SqlWriter } from './writer.js';
