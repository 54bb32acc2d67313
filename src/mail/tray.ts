import type { AddressInfo } from 'node:net';
import type { AddressObject } from 'mailparser';

/** A message as it arrived. */
export interface TrayMessage {
  readonly at: Date;
  readonly from: string;
  /** Every address it was sent to, as the envelope says. */
  readonly to: readonly string[];
  readonly subject: string;
  readonly text: string;
  readonly html: string;
}

/** A mail server for development, that keeps what it gets. */
export interface Tray {
  /** Port on the loopback interface. */
  readonly port: number;
  /** What arrived, the newest first; the last 200 are kept. */
  readonly messages: readonly TrayMessage[];
  /** Ends it. */
  close(): Promise<void>;
}

const KEPT = 200;

/** An SMTP server in the process that keeps what arrives and sends nothing on: mail for development, to be looked at. */
export async function startTray(port = 0): Promise<Tray> {
  const [{ simpleParser }, { SMTPServer }] = await Promise.all([import('mailparser'), import('smtp-server')]);
  const messages: TrayMessage[] = [];
  const server = new SMTPServer({
    authOptional: true,
    disabledCommands: ['STARTTLS', 'AUTH'],
    logger: false,
    onData(stream, session, done) {
      simpleParser(stream)
        .then((mail) => {
          const from = (mail.from as AddressObject | undefined)?.text ?? '';
          messages.unshift({
            at: new Date(),
            from,
            to: session.envelope.rcptTo.map((r) => r.address),
            subject: mail.subject ?? '',
            text: mail.text ?? '',
            html: mail.html || '',
          });
          messages.length = Math.min(messages.length, KEPT);
          done();
        })
        .catch(done);
    },
  });
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', resolve);
  });
  const address = server.server.address() as AddressInfo;
  return { port: address.port, messages, close: () => new Promise((resolve) => server.close(() => resolve())) };
}
