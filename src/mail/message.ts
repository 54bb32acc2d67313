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

export interface MailWords {
  readonly subject: string;
  /** Paragraphs before the link. */
  readonly before: readonly string[];
  /** The words on the link. */
  readonly action: string;
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

const escapeHtml = (text: string) => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

/** Sets words and a link as a message with a text and an HTML part. The subject becomes one line, whatever the words hold. */
export function setMessage(to: Message['to'], words: MailWords, link: string): Message {
  const paragraph = (text: string) => `<p>${escapeHtml(text)}</p>`;
  return {
    to,
    subject: words.subject.replace(/[\p{Cc}\p{Zl}\p{Zp}]+/gu, ' ').trim(),
    text: [...words.before, `${words.action}: ${link}`, ...words.after].join('\n\n'),
    html: [
      '<!doctype html><meta charset="utf-8"><body style="font:16px/1.5 system-ui,sans-serif;max-width:34em;margin:2em auto;padding:0 1em;color:#222">',
      ...words.before.map(paragraph),
      `<p><a href="${escapeHtml(link)}" style="display:inline-block;padding:.6em 1.2em;background:#8a4b08;color:#fff;border-radius:6px;text-decoration:none" rel="noreferrer">${escapeHtml(words.action)}</a></p>`,
      ...words.after.map(paragraph),
      '</body>',
    ].join('\n'),
  };
}
