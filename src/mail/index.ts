export { type Delivery, deliver } from './deliver.js';
export { askForLink, dropLinks, type LinkUse, lookAtLink, spendLink, takeRunOut } from './links.js';
export { type InvitationMail, invitationWords, type Mailer, type MailWords, type Message, noticeWords, setMessage } from './message.js';
export { type SmtpOptions, smtpMailer } from './smtp.js';
export { startTray, type Tray, type TrayMessage } from './tray.js';
