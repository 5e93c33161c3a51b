import type { Letter } from '../../core/people/letters.ts';
import { nextTryMs } from '../../core/redelivery.ts';
import { Secret } from '../../core/secret.ts';
import { type Ports, recordId } from '../ports.ts';
import { runPeriodically } from '../run-periodically.ts';
import type { Settings } from '../settings.ts';
import type { MailRow, MailStore } from '../store/mails.ts';

/** Mail is written down first, sealed, because it holds a link; then sent, with retries for a day. */
export interface Mail {
  /** A mail server is set. */
  readonly isOn: boolean;
  /** @param connectionId of the person to whom it goes: removed with it */
  queue(mail: { connectionId: string; to: string; letter: Letter }): Promise<void>;
  /** Sends one mail now. `id` stays the same with each try, so that a server that took it twice can tell. */
  send(mail: OneMail): Promise<Mailed>;
  /** Sends what waits, on whichever replica takes it first. Ends when told to stop. */
  run(stop: AbortSignal): Promise<void>;
}
interface OneMail {
  id: string;
  to: readonly string[];
  subject: string;
  text: string;
  html?: string;
}
/** What the mail server did with it. `isFinal`: it will never take it. */
type Mailed = { done: true; says: string } | { done: false; says: string; isFinal: boolean };
/** What seals; the service's sealer, which stands above this room. */
interface Seals {
  seal(at: { table: string; row: string; column: string }, secret: Secret): Buffer;
  open(at: { table: string; row: string; column: string }, sealed: Buffer): Promise<Secret>;
}

const LOOK_MS = 1_000;
const AT_ONCE = 10;
const CLAIMED_MS = 120_000;
const CONNECT_MS = 10_000;
const SOCKET_MS = 30_000;
const REFUSED_FOR_GOOD = 500;

export function mail(deps: { store: MailStore; sealer: Seals; settings: Pick<Settings, 'mail'>; ports: Ports }): Mail {
  const { store, sealer, ports } = deps;
  const server = deps.settings.mail;
  /** Made with the first mail: the library is large, and many send none. */
  const opened = async (url: string) => {
    const { default: nodemailer } = await import('nodemailer');
    return nodemailer.createTransport({ url, connectionTimeout: CONNECT_MS, greetingTimeout: CONNECT_MS, socketTimeout: SOCKET_MS });
  };
  let transport: ReturnType<typeof opened> | null = null;
  const at = (row: string) => ({ table: 'mails', row, column: 'letter_sealed' });
  const send = async ({ id, to, subject, text, html }: OneMail): Promise<Mailed> => {
    if (!server) return { done: false, says: 'No mail server is set: RUSTY_KETTLE_SMTP_URL.', isFinal: true };
    try {
      transport ??= opened(server.server.reveal());
      const { rejected } = await (await transport).sendMail({
        from: server.from,
        to: [...to],
        subject,
        text,
        ...(html === undefined ? {} : { html }),
        // No answer of an absent person is wanted (RFC 3834 §5).
        headers: { 'Auto-Submitted': 'auto-generated' },
        messageId: `<${id}@rusty-kettle>`,
        disableFileAccess: true,
        disableUrlAccess: true,
      });
      const refused = (rejected as (string | { address: string })[]).map((one) => (typeof one === 'string' ? one : one.address));
      return { done: true, says: refused.length === 0 ? 'The mail server took it.' : `The mail server took it, but not for ${refused.join(', ')}.` };
    } catch (error) {
      const { responseCode, code } = error as { responseCode?: number; code?: string };
      ports.log.info({ event: 'mail.not_sent', mail: id, responseCode, code }, 'mail not sent');
      return {
        done: false,
        says: `The mail server ${responseCode === undefined ? `did not take it (${code ?? 'unknown'})` : `answered ${responseCode}`}.`,
        isFinal: responseCode !== undefined && responseCode >= REFUSED_FOR_GOOD && code !== 'EAUTH',
      };
    }
  };
  const sendQueued = async (row: MailRow): Promise<void> => {
    if (!server || !(await store.claim(row.id, CLAIMED_MS))) return;
    const now = ports.clock.now();
    const letter = JSON.parse((await sealer.open(at(row.id), row.letterSealed)).reveal()) as Letter;
    const sent = await send({ id: row.id, to: [row.recipient], ...letter });
    if (sent.done) return store.change(row.id, { state: 'sent', tries: row.tries + 1, says: sent.says });
    const waitMs = sent.isFinal ? null : nextTryMs({ tries: row.tries, ageMs: now - row.createdAt, retryAfterMs: null, spread: ports.random.unit() });
    await store.change(row.id, { state: waitMs === null ? 'failed' : 'waiting', tries: row.tries + 1, says: sent.says, nextAt: now + (waitMs ?? 0) });
  };
  return {
    isOn: server !== null,
    send,
    async queue({ connectionId, to, letter }) {
      const id = recordId(ports);
      const now = ports.clock.now();
      const letterSealed = sealer.seal(at(id), new Secret(JSON.stringify(letter)));
      await store.add({ id, connectionId, recipient: to, letterSealed, state: 'waiting', tries: 0, says: '', createdAt: now, nextAt: now });
    },
    async run(stop) {
      if (!server) return;
      await runPeriodically({ ports, everyMs: LOOK_MS, failed: 'sending mail failed', stop }, async () => {
        const due = await store.due(AT_ONCE);
        await Promise.all(due.map(sendQueued));
        return due.length === AT_ONCE;
      });
      (await transport)?.close();
    },
  };
}
