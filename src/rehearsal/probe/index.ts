export { PROBE_CODES, type ProbeFinding, type ProbeProgress, type ProbeReport } from './findings.js';
export { probe } from './probe.js';
export { asCurl, asTest } from './repeat.js';
export { routesIn } from './routes.js';
export type { ProbePerson, ProbeRoute, ProbeTarget, Send } from './target.js';
