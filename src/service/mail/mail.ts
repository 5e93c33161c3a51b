import nodemailer from 'nodemailer';
import { nextTryMs } from '../../core/people/event.ts';
import type { Letter } from '../../core/people/letters.ts';
import { Secret } from '../../core/secret.ts';
import { type Ports, recordId } from '../ports.ts';
import { keepRounds } from '../rounds.ts';
import type { Settings } from '../settings.ts';
import type { MailRow, MailStore } from '../store/mails.ts';

/** Mail is written down first, sealed, because it holds a link; then sent, with retries for a day. */
export interface Mail {
  /** A mail server is set. */
  readonly isOn: boolean;
  /** @param connectionId of the person to whom it goes: removed with it */
  queue(mail: { connectionId: string; to: string; letter: Letter }): Promise<void>;
  /** Sends what waits, on whichever replica takes it first. Ends when told to stop. */
  run(stop: AbortSignal): Promise<void>;
}
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
  const transport =
    server && nodemailer.createTransport({ url: server.server.reveal(), connectionTimeout: CONNECT_MS, greetingTimeout: CONNECT_MS, socketTimeout: SOCKET_MS });
  const at = (row: string) => ({ table: 'mails', row, column: 'letter_sealed' });
  const send = async (row: MailRow): Promise<void> => {
    if (!transport || !(await store.claim(row.id, CLAIMED_MS))) return;
    const now = ports.clock.now();
    const { subject, text } = JSON.parse((await sealer.open(at(row.id), row.letterSealed)).reveal()) as Letter;
    try {
      // One Message-ID for each mail: a server that took it twice can tell.
      await transport.sendMail({
        from: server.from,
        to: row.recipient,
        subject,
        text,
        messageId: `<${row.id}@rusty-kettle>`,
        disableFileAccess: true,
        disableUrlAccess: true,
      });
      await store.change(row.id, { state: 'sent', tries: row.tries + 1, says: 'The mail server took it.' });
    } catch (error) {
      const { responseCode, code } = error as { responseCode?: number; code?: string };
      const isFinal = responseCode !== undefined && responseCode >= REFUSED_FOR_GOOD && code !== 'EAUTH';
      const waitMs = isFinal ? null : nextTryMs({ tries: row.tries, ageMs: now - row.createdAt, retryAfterMs: null, spread: ports.random.unit() });
      const says = `The mail server ${responseCode === undefined ? `did not take it (${code ?? 'unknown'})` : `answered ${responseCode}`}.`;
      await store.change(row.id, { state: waitMs === null ? 'failed' : 'waiting', tries: row.tries + 1, says, nextAt: now + (waitMs ?? 0) });
      ports.log[waitMs === null ? 'warn' : 'info']({ mail: row.id, responseCode, code }, 'mail not sent');
    }
  };
  return {
    isOn: transport !== null,
    async queue({ connectionId, to, letter }) {
      const id = recordId(ports);
      const now = ports.clock.now();
      const letterSealed = sealer.seal(at(id), new Secret(JSON.stringify(letter)));
      await store.add({ id, connectionId, recipient: to, letterSealed, state: 'waiting', tries: 0, says: '', createdAt: now, nextAt: now });
    },
    async run(stop) {
      if (!transport) return;
      await keepRounds({ log: ports.log, everyMs: LOOK_MS, failed: 'sending mail failed', stop }, async () => {
        const due = await store.due(AT_ONCE);
        await Promise.all(due.map(send));
        return due.length === AT_ONCE;
      });
      transport.close();
    },
  };
}
