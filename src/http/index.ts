export { readAdmissionRules } from './admission-schemas.js';
export { type AccountsAtFace, secretsIn, senderByCookie } from './cookies.js';
export { createFace, type Face, type FaceOptions, type Sender, standingOfRequest } from './face.js';
export { bounded, type Guarded, guard, guardedRecord, type Standing, withStanding } from './guard.js';
export { type Problem, problemOf, problemResponse } from './problem.js';
export { type DirectoryPagesOptions, directoryPages } from './scim.js';
export { type NotIn, type SignOnPagesOptions, signOnPages } from './sign-on.js';
