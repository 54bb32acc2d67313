export { type Begun, begin } from './begin.js';
export { probeFiles } from './probing.js';
export { type Framework, type NewFile, projectFiles, type Where } from './project.js';
