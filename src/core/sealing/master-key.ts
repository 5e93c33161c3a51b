import { createHmac } from 'node:crypto';
import { Fault } from '../fault.ts';
import { open, type SealKey, seal } from './envelope.ts';

const CHECK_PLACE = { table: 'installations', row: '1', column: 'key_check' };
const CHECK_TEXT = Buffer.from('rusty-kettle key check/1', 'utf8');

/** The 32 bytes that wrap the data keys; never in the database. */
export interface MasterKey extends SealKey {
  /** The first 8 bytes of HMAC-SHA-256(key, `id/1`), in hex: safe to print. */
  name: string;
}

/** @throws {Fault} SETTING_INVALID when it is not 32 bytes. */
export function masterKey(bytes: Uint8Array): MasterKey {
  if (bytes.length !== 32) throw new Fault('SETTING_INVALID', { detail: `The master key must be 32 bytes; this one has ${bytes.length}.` });
  const name = createHmac('sha256', bytes).update('id/1').digest().subarray(0, 8);
  return { bytes, name: name.toString('hex'), id: Buffer.concat([name, Buffer.alloc(8)]) };
}

/** A sealed constant: what the database keeps to recognise its master key. */
export const sealKeyCheck = (key: MasterKey, nonce: Uint8Array): Buffer => seal(key, nonce, CHECK_PLACE, CHECK_TEXT);

/** @throws {Fault} MASTER_KEY_WRONG, naming both ids, when the key is not the database's. */
export function checkMasterKey(key: MasterKey, expectedName: string, keyCheck: Uint8Array): void {
  const detail = `The database wants the key ${expectedName}; the key given is ${key.name}.`;
  if (key.name !== expectedName) throw new Fault('MASTER_KEY_WRONG', { detail });
  let text: Buffer;
  try {
    text = open(key, CHECK_PLACE, keyCheck);
  } catch (cause) {
    throw new Fault('MASTER_KEY_WRONG', { detail, cause });
  }
  if (!text.equals(CHECK_TEXT)) throw new Fault('MASTER_KEY_WRONG', { detail });
}
