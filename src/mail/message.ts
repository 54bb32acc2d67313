import type { NoticeName } from '../membership/index.js';

/** One message to one person. */
export interface Message {
  /** The same at each try, so that a message which the server took although its answer was lost can be told for the same. */
  readonly id?: string;
  readonly to: { readonly name: string; readonly address: string };
  readonly subject: string;
  readonly text: string;
  readonly html: string;
}

/** Sends one message, or throws: then it is tried again later. */
export interface Mailer {
  /** Sends one message. What is thrown is tried again later. */
  send(message: Message): Promise<void>;
}

/** What the words of an invitation can speak of. */
export interface InvitationMail {
  readonly tenantName: string;
  readonly invitedBy: string;
  readonly name: string | null;
  /** The single-use link. */
  readonly link: string;
  readonly expiresAt: Date;
}

/** The words of a message. */
export interface MailWords {
  readonly subject: string;
  /** Paragraphs before the link. */
  readonly before: readonly string[];
  /** The words on the link, where there is one. */
  readonly action?: string;
  /** Paragraphs after the link. */
  readonly after: readonly string[];
}

/** The words of an invitation, which an application replaces with its own. */
export function invitationWords(mail: InvitationMail): MailWords {
  const until = mail.expiresAt.toISOString().slice(0, 10);
  return {
    subject: `${mail.invitedBy} invites you to ${mail.tenantName}`,
    before: [`Hello${mail.name ? ` ${mail.name}` : ''},`, `${mail.invitedBy} invites you to join ${mail.tenantName}.`],
    action: 'See the invitation',
    after: [`The link works once, until ${until}.`, 'If you did not expect this message, leave it: nothing happens unless you follow the link and accept.'],
  };
}

/** The words of what people are told besides invitations, which an application replaces with its own. */
export function noticeWords(notice: NoticeName, of: Readonly<Record<string, string>>): MailWords {
  switch (notice) {
    case 'prove-address':
      return {
        subject: 'Is this your new address?',
        before: [`Hello ${of.name},`, 'you want to be reached at this address from now on.'],
        action: 'Yes, use this address',
        after: ['The link counts for a day. If you did not ask for this, leave it: then nothing changes.'],
      };
    case 'address-changed':
      return {
        subject: 'Your address was changed',
        before: [`Hello ${of.name},`, `from now on your account has the address ${of.address}, and not this one any more.`],
        after: ['If that was not you, tell whoever runs this application at once.'],
      };
    case 'sign-up':
      return {
        subject: 'Finish your account',
        before: ['Somebody wants an account under this address. If that was you, go on here and choose a password.'],
        action: 'Make my account',
        after: ['The link counts for a day, and once. If that was not you, leave it: without the link there is no account.'],
      };
    case 'sign-up-taken':
      return {
        subject: 'You have an account already',
        before: ['Somebody wants an account under this address. There is one already: sign in with it, or ask for a new password where you sign in.'],
        after: ['If that was not you, leave it: nothing was changed.'],
      };
    case 'forgotten':
      return {
        subject: 'Choose a new password',
        before: ['Somebody has forgotten the password of the account with this address. If that was you, choose a new one here.'],
        action: 'Choose a new password',
        after: ['The link counts for half an hour, and once. If that was not you, leave it: the password stays as it is.'],
      };
    case 'forgotten-unknown':
      return {
        subject: 'There is no account with this address',
        before: ['Somebody has forgotten a password and gave this address. There is no account with it; perhaps there is one with another address of yours.'],
        after: ['If that was not you, leave it.'],
      };
    case 'password-changed':
      return {
        subject: 'Your password was changed',
        before: [`Hello ${of.name},`, 'your account has another password from now on, and every other device was signed out.'],
        after: ['If that was not you, ask for a new password at once where you sign in.'],
      };
    case 'sign-in-locked':
      return {
        subject: 'Somebody tries to sign in as you',
        before: [
          `Hello ${of.name},`,
          'so many wrong passwords were tried for your account that none is taken for a while. Where you have signed in before you still can; everywhere else you can with a new password.',
        ],
        after: ['If that was you, wait a little, or ask for a new password where you sign in.'],
      };
    case 'factor':
      return {
        subject: 'Add a second factor',
        before: ['You want to sign in with a second factor from now on. Go on here, on the device where you are signed in.'],
        action: 'Add a second factor',
        after: ['The link counts for half an hour, and once. If that was not you, somebody else is signed in as you: choose a new password at once.'],
      };
    case 'keep-factors':
      return {
        subject: 'Your second factor will be removed tomorrow',
        before: [
          'Whoever runs this application was asked to remove the second factor of your account, since it is lost. A day from now, signing in takes the password alone.',
          'If you have your second factor still, say so here, and it stays.',
        ],
        action: 'Keep my second factor',
        after: ['If you asked for it yourself, wait until tomorrow and sign in with your password.'],
      };
    case 'factor-added':
      return {
        subject: 'You sign in with a second factor now',
        before: [`Hello ${of.name},`, 'from now on your account asks for a code besides the password, and every other device was signed out.'],
        after: ['If that was not you, tell whoever runs this application at once.'],
      };
    case 'factor-removed':
      return {
        subject: 'Your second factor was removed',
        before: [`Hello ${of.name},`, 'your account asks for the password alone from now on.'],
        after: ['If that was not you, choose a new password at once.'],
      };
    case 'recovery-code-used':
      return {
        subject: 'A recovery code was used',
        before: [`Hello ${of.name},`, `somebody signed in to your account with a recovery code. You have ${of.left} left.`],
        after: ['If that was not you, choose a new password at once.'],
      };
    case 'care-begun':
      return {
        subject: `${of.by} looks after ${of.tenant}`,
        before: [`${of.by}, of the staff of the platform, looks after ${of.tenant} until ${of.until}.`, `The reason: ${of.reason}`],
        after: ['Whatever is done meanwhile is on your record of changes.'],
      };
    case 'connection-changed':
      return {
        subject: `How people sign in to ${of.tenant} has changed`,
        before: [`“${of.name}”, by which people sign in to ${of.tenant}, was ${of.what} by ${of.by}.`],
        after: ['Whoever sets up a provider decides who comes in by it. If that was not agreed on, turn it off.'],
      };
    case 'let-in':
      return { subject: `Welcome to ${of.tenant}`, before: [`You asked to be let into ${of.tenant}, and you are a member now.`], after: [] };
    case 'turned-away':
      return { subject: `${of.tenant} did not let you in`, before: [`You asked to be let into ${of.tenant}. It was not agreed to.`], after: [] };
    case 'appeal-raised':
      return {
        subject: `${of.person} asks for something in ${of.tenant}`,
        before: [`${of.person} may not do this in ${of.tenant}, and asks for it: ${of.action}.`],
        after: ['Sign in to see on which record, and why; what would allow it, and what else that would open; and to agree or decline. Unanswered, it lapses.'],
      };
    case 'appeal-agreed':
      return {
        subject: `${of.tenant}: you may do it now`,
        before: [`You asked for this: ${of.action}. It was agreed to.`, of.reason ?? ''].filter(Boolean),
        after: [],
      };
    case 'appeal-declined':
      return {
        subject: `${of.tenant}: it was not agreed to`,
        before: [`You asked for this: ${of.action}. It was not agreed to.`, of.reason ?? ''].filter(Boolean),
        after: [],
      };
  }
}

const escapeHtml = (text: string) => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

/** Sets words, and a link if there is one, as a message with a text and an HTML part. The subject becomes one line, whatever the words hold. */
export function setMessage(to: Message['to'], words: MailWords, link?: string): Message {
  const paragraph = (text: string) => `<p>${escapeHtml(text)}</p>`;
  const { action = '' } = words;
  return {
    to,
    subject: words.subject.replace(/[\p{Cc}\p{Zl}\p{Zp}]+/gu, ' ').trim(),
    text: [...words.before, ...(link === undefined ? [] : [`${action}: ${link}`]), ...words.after].join('\n\n'),
    html: [
      '<!doctype html><meta charset="utf-8"><body style="font:16px/1.5 system-ui,sans-serif;max-width:34em;margin:2em auto;padding:0 1em;color:#222">',
      ...words.before.map(paragraph),
      ...(link === undefined
        ? []
        : [
            `<p><a href="${escapeHtml(link)}" style="display:inline-block;padding:.6em 1.2em;background:#8a4b08;color:#fff;border-radius:6px;text-decoration:none" rel="noreferrer">${escapeHtml(action)}</a></p>`,
          ]),
      ...words.after.map(paragraph),
      '</body>',
    ].join('\n'),
  };
}
