import { v7 } from 'uuid';

/** A record id: UUIDv7 (RFC 9562 §5.7) of `now` (epoch ms) and 16 random bytes, known before the insert. */
export const newRecordId = (now: number, random: Uint8Array): string => v7({ msecs: now, random });

/** URL-safe text of random bytes, for keys, tickets and `state`. */
export const base64url = (bytes: Uint8Array): string => Buffer.from(bytes).toString('base64url');

/** A visible prefix tells people which of two pasted texts is ours. */
export const CALLER_ID_PREFIX = 'rkc_';
export const CALLER_KEY_PREFIX = 'rkk_';
/** Twelve random bytes behind the prefix: what has another shape was never given to a caller. */
export const isCallerId = (text: string): boolean => /^rkc_[A-Za-z0-9_-]{16}$/.test(text);

const BASE32 = 'abcdefghijklmnopqrstuvwxyz234567';
/** Lower-case letters and digits of random bytes (RFC 4648 §6), one for each byte: five bits of it. */
export const base32Code = (bytes: Uint8Array, length: number): string => [...bytes.subarray(0, length)].map((byte) => BASE32[byte & 31]).join('');
