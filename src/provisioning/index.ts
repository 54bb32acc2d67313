export { Domains, type DomainsOptions } from './domains.js';
export type { LineProblem } from './lines.js';
export { type HandReport, handRecords, type Owned, type OwnersFile, readOwnersFile } from './owners-file.js';
export { type PeopleFile, readPeopleFile } from './people-file.js';
export { writePeopleFile } from './people-out.js';
export { type Asking, type Back, type Leaving, SignOn, type SignOnOptions, type WayIn } from './sign-on/sign-on.js';
