export { Accounts, type AccountsOptions, type Coming, type Entered, type SignInOnRecord } from './accounts.js';
export type { PasswordRules } from './passwords.js';
export type { MySession, Session, SessionTerms, SignedIn } from './sessions.js';
