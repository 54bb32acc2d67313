export { type LineProblem, type PeopleFile, readPeopleFile } from './people-file.js';
