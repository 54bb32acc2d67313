export { Accounts, type AccountsOptions, type Session, type SignedIn, type SignUp } from './accounts.js';
