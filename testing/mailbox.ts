import { SMTPServer } from 'smtp-server';
import { freePort } from '../../src/service/database/private-mariadb.ts';

interface Received {
  to: string;
  /** Headers and parts, without the folding of lines. */
  text: string;
}
/** A mail server on loopback that keeps what it gets. */
export interface Mailbox {
  url: string;
  received: Received[];
  /** Codes with which the next mails are refused. */
  refusals: { code: number }[];
  stop(): Promise<void>;
}

export async function startMailbox(): Promise<Mailbox> {
  const port = await freePort();
  const received: Received[] = [];
  const refusals: { code: number }[] = [];
  const server = new SMTPServer({
    authOptional: true,
    disabledCommands: ['STARTTLS'],
    onData(stream, session, done) {
      let text = '';
      stream.on('data', (part) => (text += part));
      stream.on('end', () => {
        const refused = refusals.shift();
        if (refused) return done(Object.assign(new Error('not now'), { responseCode: refused.code }));
        // Lines are folded for the way (quoted-printable, RFC 2045 §6.7).
        const plain = text.replace(/=\r\n/g, '').replace(/=([0-9A-F]{2})/g, (_match, hex) => String.fromCharCode(Number.parseInt(hex, 16)));
        received.push({ to: session.envelope.rcptTo.map((one) => one.address).join(), text: plain });
        done();
      });
    },
  });
  await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
  return { url: `smtp://127.0.0.1:${port}`, received, refusals, stop: () => new Promise((resolve) => server.close(() => resolve())) };
}
