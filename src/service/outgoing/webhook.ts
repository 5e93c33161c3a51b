import { Webhook } from 'standardwebhooks';
import { reasonInWords } from '../../core/oauth/wire.ts';
import type { Secret } from '../../core/secret.ts';
import type { Ports } from '../ports.ts';

const ANSWER_BYTES = 10_000;

/** What became of one POST to an application. `isFinal`: it will never take it. `retryAfterMs`: as it asked for, or null. */
export type Posted = { done: true; says: string } | { done: false; says: string; isFinal: boolean; retryAfterMs: number | null };

/** By Standard Webhooks a secret that begins with `whsec_` is base64 of the key; any other text is the key as it is. */
const signer = (secret: string): Webhook => (secret.startsWith('whsec_') ? new Webhook(secret) : new Webhook(secret, { format: 'raw' }));

/** Sends one message to an application, signed by Standard Webhooks where there is a secret. The message keeps its id with each try. */
export async function postWebhook(
  ports: Pick<Ports, 'send' | 'clock'>,
  message: { url: string; id: string; contentType: string; body: string; secret: Secret | null; headers?: Record<string, string>; deadlineMs: number },
): Promise<Posted> {
  const { url, id, body, secret, deadlineMs } = message;
  const at = new Date(ports.clock.now());
  const signature = secret === null ? {} : { 'webhook-signature': signer(secret.reveal()).sign(id, at, body) };
  const answer = await ports.send({
    method: 'POST',
    url,
    headers: {
      'content-type': message.contentType,
      'webhook-id': id,
      'webhook-timestamp': String(Math.floor(at.getTime() / 1000)),
      ...signature,
      ...message.headers,
    },
    body,
    deadlineMs,
    limitBytes: ANSWER_BYTES,
  });
  const failed = (says: string, isFinal = false, retryAfterMs: number | null = null): Posted => ({ done: false, says, isFinal, retryAfterMs });
  if (answer.kind !== 'answer') return failed(`The application did not answer: ${reasonInWords(answer.reason)}.`);
  if (answer.status >= 200 && answer.status < 300) return { done: true, says: `The application answered ${answer.status}.` };
  if (answer.status === 410) return failed('The application answered 410: it no longer takes this.', true);
  const after = Number(answer.headers['retry-after']);
  return failed(`The application answered ${answer.status}.`, false, Number.isFinite(after) ? after * 1000 : null);
}
