export { insistOnKeyholder, underFullControl } from './always.js';
export { insistOnApart, insistOnApartOf } from './apart.js';
export { actorOf, type Change, changeTenant, eachTakenBack, heldBy, insistOn, latestChange, recordDoor } from './change.js';
export type { Handler, Handlers } from './handler.js';
export { insistOnDomain, insistOnRules } from './rules.js';
export { insistOnSetter } from './setter.js';
