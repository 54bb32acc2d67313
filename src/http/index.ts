export { readAdmissionRules } from './admission-schemas.js';
export { type AccountsAtFace, secretsIn, senderByCookie } from './cookies.js';
export { changesNothing, createFace, type Face, type FaceOptions, isSafe, LOOK, type Sender, standingOfRequest, whoeverAsks } from './face.js';
export { bounded, type Guarded, guard, guardedRecord, type Standing, tried, withStanding } from './guard.js';
export { type Problem, problemOf, problemResponse } from './problem.js';
export { type DirectoryPagesOptions, directoryPages } from './scim.js';
export { type NotIn, type SignOnPagesOptions, signOnPages } from './sign-on.js';
