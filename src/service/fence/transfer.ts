import { hkdfSync } from 'node:crypto';
import { open, seal } from '../../core/sealing/envelope.ts';
import { answerOf, answerText, type SpilledAnswer } from '../renewal/index.ts';

/** What an original transfers: the present tokens of its grants, in the order of their IDs. */
export interface TransferPage {
  answers: SpilledAnswer[];
  /** Where the next page begins; null: that was all. */
  next: string | null;
}

/** Tokens on their way from an origin to its copy, sealed under a key that both have, for one question. */
const keyOf = (fenceKey: Uint8Array) => ({
  id: new Uint8Array(16),
  bytes: new Uint8Array(hkdfSync('sha256', fenceKey, new Uint8Array(), 'fence/answers/1', 32)),
});
const placeOf = (challenge: string) => ({ table: 'fence', row: challenge, column: 'answers' });

export const sealTransfer = (key: Uint8Array, { challenge, nonce }: { challenge: string; nonce: Uint8Array }, page: TransferPage): string =>
  seal(keyOf(key), nonce, placeOf(challenge), Buffer.from(JSON.stringify({ next: page.next, answers: page.answers.map(answerText) }), 'utf8')).toString(
    'base64',
  );

/** @throws {Fault} SEAL_BROKEN */
export function openTransfer(key: Uint8Array, challenge: string, sealed: string): TransferPage {
  const { next, answers } = JSON.parse(open(keyOf(key), placeOf(challenge), Buffer.from(sealed, 'base64')).toString('utf8')) as {
    next: string | null;
    answers: string[];
  };
  return { next, answers: answers.map(answerOf) };
}
