import { SMTPServer } from 'smtp-server';
import { freePort } from '../src/service/database/private-mariadb.ts';

export interface ReceivedMail {
  to: string;
  subject: string;
  /** Headers and parts, without the folding of lines. */
  text: string;
}
/** A mail server on loopback that keeps what it gets. */
export interface Mailbox {
  url: string;
  received: ReceivedMail[];
  /** Codes with which the next mails are refused. */
  refusals: { code: number }[];
  stop(): Promise<void>;
}

const subjectOf = (text: string): string => (/^Subject: ([\s\S]*?)\r\n(?! )/m.exec(text)?.[1] ?? '').replace(/\r\n /g, ' ');

/** @param options `onMail` is called for each mail that is taken */
export async function startMailbox(options: { port?: number; onMail?: (mail: ReceivedMail) => void } = {}): Promise<Mailbox> {
  const port = options.port ?? (await freePort());
  const received: ReceivedMail[] = [];
  const refusals: { code: number }[] = [];
  const server = new SMTPServer({
    authOptional: true,
    disabledCommands: ['STARTTLS'],
    onData(stream, session, done) {
      let raw = '';
      stream.on('data', (part) => (raw += part));
      stream.on('end', () => {
        const refused = refusals.shift();
        if (refused) return done(Object.assign(new Error('not now'), { responseCode: refused.code }));
        // Lines are folded for the way (quoted-printable, RFC 2045 §6.7).
        const text = raw.replace(/=\r\n/g, '').replace(/=([0-9A-F]{2})/g, (_match, hex) => String.fromCharCode(Number.parseInt(hex, 16)));
        const mail = { to: session.envelope.rcptTo.map((one) => one.address).join(), subject: subjectOf(text), text };
        received.push(mail);
        options.onMail?.(mail);
        done();
      });
    },
  });
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', resolve);
  });
  return { url: `smtp://127.0.0.1:${port}`, received, refusals, stop: () => new Promise((resolve) => server.close(() => resolve())) };
}
