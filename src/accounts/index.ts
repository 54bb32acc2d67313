export { Accounts } from './accounts.js';
export type { NewFactor } from './factors.js';
export type { Activation, Joining } from './letters.js';
export type { AccountsOptions, Coming, Entered, HalfWay, SignInOnRecord } from './options.js';
export type { Proof } from './password.js';
export type { PasswordRules } from './passwords.js';
export type { Secrets } from './sealed.js';
export type { MySession, Session, SessionTerms, SignedIn } from './sessions.js';
export type { Code, SignIn } from './signing-in.js';
