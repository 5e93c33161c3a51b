import { createCipheriv, createDecipheriv } from 'node:crypto';
import { Fault } from '../fault.ts';

/**
 * The sealed form of a secret: `version(1) | key id(16) | nonce(12) | tag(16) | box`.
 * AES-256-GCM (NIST SP 800-38D) with random 96-bit nonces; version and key id travel with the value,
 * and the place where it belongs is authenticated, so that a value moved elsewhere does not open.
 */
const VERSION = 1;
const KEY_ID_BYTES = 16;
const NONCE_BYTES = 12;
const TAG_BYTES = 16;
const HEAD_BYTES = 1 + KEY_ID_BYTES + NONCE_BYTES + TAG_BYTES;

/** Where a sealed value lives. Encoded as a JSON array, never as joined text: no two places look alike. */
export interface SealPlace {
  table: string;
  row: string;
  column: string;
}

export interface SealKey {
  /** 16 bytes. */
  id: Uint8Array;
  /** 32 bytes. */
  bytes: Uint8Array;
}

const associatedData = (place: SealPlace, head: Uint8Array): Buffer =>
  Buffer.concat([head, Buffer.from(JSON.stringify(['seal/1', place.table, place.row, place.column]), 'utf8')]);

/** Seals bytes for one place. `nonce`: 12 random bytes, never used twice under one key. */
export function seal(key: SealKey, nonce: Uint8Array, place: SealPlace, plain: Uint8Array): Buffer {
  if (key.id.length !== KEY_ID_BYTES || nonce.length !== NONCE_BYTES) throw new RangeError('seal: key id or nonce has the wrong length');
  const head = Buffer.concat([Buffer.from([VERSION]), key.id]);
  const cipher = createCipheriv('aes-256-gcm', key.bytes, nonce);
  cipher.setAAD(associatedData(place, head));
  const box = Buffer.concat([cipher.update(plain), cipher.final()]);
  return Buffer.concat([head, nonce, cipher.getAuthTag(), box]);
}

/** The id of the key that a sealed value needs, in hex. @throws {Fault} SEAL_BROKEN for anything that is no envelope. */
export function sealedKeyId(sealed: Uint8Array): string {
  if (sealed.length < HEAD_BYTES || sealed[0] !== VERSION) throw new Fault('SEAL_BROKEN', { detail: 'It is not a sealed value of a version known here.' });
  return Buffer.from(sealed.subarray(1, 1 + KEY_ID_BYTES)).toString('hex');
}

/** Opens a sealed value. @throws {Fault} SEAL_BROKEN when a bit, the key or the place differs. */
export function open(key: SealKey, place: SealPlace, sealed: Uint8Array): Buffer {
  if (sealedKeyId(sealed) !== Buffer.from(key.id).toString('hex')) throw new Fault('SEAL_BROKEN', { detail: 'It was sealed under another key.' });
  const head = sealed.subarray(0, 1 + KEY_ID_BYTES);
  const nonce = sealed.subarray(head.length, head.length + NONCE_BYTES);
  const tag = sealed.subarray(head.length + NONCE_BYTES, HEAD_BYTES);
  const decipher = createDecipheriv('aes-256-gcm', key.bytes, nonce);
  decipher.setAAD(associatedData(place, head));
  decipher.setAuthTag(tag);
  try {
    return Buffer.concat([decipher.update(sealed.subarray(HEAD_BYTES)), decipher.final()]);
  } catch {
    // The library's error is dropped on purpose: it shows nothing more, and a cause might carry a buffer.
    throw new Fault('SEAL_BROKEN', { detail: `At ${place.table}.${place.column}.` });
  }
}
