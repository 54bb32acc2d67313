import type { Transporter } from 'nodemailer';
import type { Mailer } from './message.js';

/** The mail server that takes messages. */
export interface SmtpOptions {
  /** Of the mail server. */
  readonly host: string;
  /** Of the mail server: mostly 587, or 465 where `secure`. */
  readonly port: number;
  /** True: TLS from the first byte. Default: STARTTLS where the server offers it. */
  readonly secure?: boolean;
  /** The name and password by which the server knows us. */
  readonly auth?: { readonly user: string; readonly pass: string };
  /** Who the messages are from. */
  readonly from: { readonly name: string; readonly address: string };
  /** Where answers go. Default: to the sender. */
  readonly replyTo?: { readonly name: string; readonly address: string };
  /** Seconds after which a server that does not answer counts as down. Default 10. */
  readonly patience?: number;
}

/** Sends over SMTP (RFC 5321). */
export function smtpMailer(options: SmtpOptions): Mailer {
  const { from, replyTo, patience = 10, ...server } = options;
  const timeouts = { connectionTimeout: patience * 1000, greetingTimeout: patience * 1000, socketTimeout: 2000 * patience };
  // Loaded with the first message: whoever sends otherwise, or nothing, does without.
  let opened: Promise<Transporter> | undefined;
  const open = async () => (await import('nodemailer')).createTransport({ ...server, ...timeouts, disableFileAccess: true, disableUrlAccess: true });
  return {
    async send({ id, to, subject, text, html }) {
      opened ??= open();
      const transport = await opened;
      // Names and addresses as objects: a string would be read as a list, and could name somebody else.
      await transport.sendMail({
        from: { ...from },
        ...(replyTo && { replyTo: { ...replyTo } }),
        to: { ...to },
        ...(id && { messageId: `<${id}@${from.address.split('@')[1]}>` }),
        subject,
        text,
        html,
        headers: { 'Auto-Submitted': 'auto-generated' },
      });
    },
  };
}
