import { randomBytes } from 'node:crypto';
import { CompactEncrypt, type CompactJWEHeaderParameters, type CryptoKey, compactDecrypt, importPKCS8, importSPKI } from 'jose';
import { Fault } from '../fault.ts';

/**
 * The form of a backup: lines of JWE in compact form (RFC 7516), which any JOSE library reads. The first line is encrypted to whoever may
 * restore, and holds a content key; each further line is encrypted with that key (`dir`, A256GCM), states its number in the protected
 * header, and the last one says so: what is cut, moved or repeated is noticed.
 */
const BACKUP_TYPE = 'rusty-kettle-backup';
/** OWASP's figure for PBKDF2 with SHA-512 is 210,000; a backup is a file that others can keep and try at. */
const PBES2_COUNT = 600_000;
const MAX_PBES2 = 2_000_000;
const encoder = new TextEncoder();

export type BackupLock = { passphrase: string } | { recipient: string };
export type BackupUnlock = { passphrase: string } | { privateKey: string };

const SPKI_ALGORITHMS = ['ECDH-ES+A256KW', 'RSA-OAEP-256'] as const;

/** A public key in PEM, for whichever algorithm it is. @throws {Fault} INPUT_INVALID */
export async function readRecipient(pem: string): Promise<{ key: CryptoKey; alg: (typeof SPKI_ALGORITHMS)[number] }> {
  for (const alg of SPKI_ALGORITHMS) {
    try {
      return { key: await importSPKI(pem.trim(), alg), alg };
    } catch {
      // not a key of this kind; the next
    }
  }
  throw new Fault('INPUT_INVALID', {
    places: [{ path: 'recipient', why: 'Not a public key in PEM, elliptic (P-256, P-384, P-521, X25519) or RSA.' }],
    remedy:
      'Make a key pair: `openssl genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out restore.key` and `openssl pkey -in restore.key -pubout -out restore.pub`.',
  });
}

const broken = (detail: string, remedy: string) => new Fault('BACKUP_UNREADABLE', { detail, remedy });

export interface BackupWriter {
  head: string;
  /** One more line. @param last there is none after it */
  line(bytes: Uint8Array, last: boolean): Promise<string>;
}

/** Encrypts bytes to a passphrase or a public key: one JWE in compact form. @param type its `typ` @throws {Fault} INPUT_INVALID for a recipient that is no key */
export async function lockBytes(lock: BackupLock, bytes: Uint8Array, type: string): Promise<string> {
  const plain = new CompactEncrypt(bytes);
  if ('passphrase' in lock)
    return plain
      .setProtectedHeader({ alg: 'PBES2-HS512+A256KW', enc: 'A256GCM', typ: type })
      .setKeyManagementParameters({ p2c: PBES2_COUNT })
      .encrypt(encoder.encode(lock.passphrase));
  const { key, alg } = await readRecipient(lock.recipient);
  return plain.setProtectedHeader({ alg, enc: 'A256GCM', typ: type }).encrypt(key);
}

/** @throws {Fault} INPUT_INVALID for a recipient that is no key */
export async function backupWriter(lock: BackupLock): Promise<BackupWriter> {
  const key = randomBytes(32);
  const head = await lockBytes(lock, encoder.encode(JSON.stringify({ typ: BACKUP_TYPE, v: 1, key: key.toString('base64url') })), BACKUP_TYPE);
  let number = 0;
  return {
    head,
    async line(bytes, last) {
      const header: CompactJWEHeaderParameters = { alg: 'dir', enc: 'A256GCM', n: number, last };
      number += 1;
      return new CompactEncrypt(bytes).setProtectedHeader(header).encrypt(key);
    },
  };
}

/** Whether it was locked with a passphrase. @throws {Fault} BACKUP_UNREADABLE */
export function lockOf(head: string, type = BACKUP_TYPE): 'passphrase' | 'recipient' {
  try {
    const header = JSON.parse(Buffer.from(head.split('.')[0] ?? '', 'base64url').toString('utf8')) as { alg?: string; typ?: string };
    if (header.typ === type && typeof header.alg === 'string') return header.alg.startsWith('PBES2') ? 'passphrase' : 'recipient';
  } catch {
    // said below
  }
  throw broken(`It does not begin as a ${type === BACKUP_TYPE ? 'backup' : 'file of secrets'} does.`, 'Name a file that `rk` wrote.');
}

/** Opens what `lockBytes` encrypted. @throws {Fault} BACKUP_UNREADABLE for a wrong passphrase or key */
export async function unlockBytes(jwe: string, unlock: BackupUnlock, type: string): Promise<Uint8Array> {
  const lock = lockOf(jwe, type);
  if ('passphrase' in unlock !== (lock === 'passphrase'))
    throw broken(
      lock === 'passphrase' ? 'It was locked with a passphrase.' : 'It was locked for the owner of a key.',
      lock === 'passphrase' ? 'Leave out --key and enter the passphrase.' : 'Give the private key with --key.',
    );
  const { alg = '' } = JSON.parse(Buffer.from(jwe.split('.')[0] ?? '', 'base64url').toString('utf8')) as { alg?: string };
  let secret: CryptoKey | Uint8Array;
  if ('passphrase' in unlock) secret = encoder.encode(unlock.passphrase);
  else
    try {
      secret = await importPKCS8(unlock.privateKey.trim(), alg);
    } catch {
      throw broken('The key given is not a private key in PEM (PKCS#8) of the right kind.', 'Give the private key that belongs to the public key.');
    }
  try {
    const { plaintext } = await compactDecrypt(jwe, secret, {
      keyManagementAlgorithms: ['PBES2-HS512+A256KW', ...SPKI_ALGORITHMS],
      contentEncryptionAlgorithms: ['A256GCM'],
      maxPBES2Count: MAX_PBES2,
    });
    return plaintext;
  } catch {
    throw broken(
      'passphrase' in unlock ? 'The passphrase is wrong.' : 'The key is not the one it was locked for.',
      'Try again with the right one. Nothing was changed.',
    );
  }
}

export interface BackupReader {
  /** The next line. @throws {Fault} BACKUP_UNREADABLE where it was changed, is missing or stands elsewhere */
  line(text: string): Promise<Uint8Array>;
  /** After the last line. @throws {Fault} BACKUP_UNREADABLE where the file was cut */
  end(): void;
}

/** @throws {Fault} BACKUP_UNREADABLE for a wrong passphrase or key */
export async function backupReader(head: string, unlock: BackupUnlock): Promise<BackupReader> {
  const read = JSON.parse(Buffer.from(await unlockBytes(head, unlock, BACKUP_TYPE)).toString('utf8')) as { v?: number; key?: string };
  if (read.v !== 1 || typeof read.key !== 'string')
    throw broken('Its form is not one that this version knows.', 'Restore with the version that made it, or a later one.');
  const key = Buffer.from(read.key, 'base64url');
  let [number, ended] = [0, false];
  return {
    async line(text) {
      if (ended) throw broken('Lines follow its last one.', 'Use another backup.');
      let opened: Awaited<ReturnType<typeof compactDecrypt>>;
      try {
        opened = await compactDecrypt(text, key, { keyManagementAlgorithms: ['dir'], contentEncryptionAlgorithms: ['A256GCM'] });
      } catch {
        throw broken(`Line ${number + 2} does not open: the file was changed or damaged.`, 'Use another backup.');
      }
      const { n, last } = opened.protectedHeader as { n?: unknown; last?: unknown };
      if (n !== number) throw broken(`Line ${number + 2} is missing or stands elsewhere.`, 'Use another backup.');
      number += 1;
      ended = last === true;
      return opened.plaintext;
    },
    end() {
      if (!ended) throw broken(`It was cut after line ${number + 1}.`, 'Copy the file again, whole, or use another backup.');
    },
  };
}
