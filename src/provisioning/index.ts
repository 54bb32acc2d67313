export { type LineProblem, type PeopleFile, readPeopleFile } from './people-file.js';
export { writePeopleFile } from './people-out.js';
