export { type AuditEvent, type AuditVerdict, type EventsAsked, exportAudit, listAudit, spans, verifyAudit } from './audit.js';
export { type AuditEntry, onRecord, putNext } from './entry.js';
export { type HeldThen, heldThen, keepCharter, standingThen } from './history.js';
export { type MembershipEvent, passOn } from './listening.js';
export { type NoticeName, tell } from './notices.js';
