import { createHash, createPrivateKey, createPublicKey, type KeyObject, X509Certificate } from 'node:crypto';
import { Fault } from '../fault.ts';
import { Secret } from '../secret.ts';
import type { ClientAssertionAlgorithm } from './methods.ts';

/** What may be shown of a private key or certificate. Thumbprints are base64url (RFC 7515 §4.1.7). */
export interface KeyFacts {
  /** RSA with its bits, or the curve. */
  type: string;
  /** The key id that is sent: the thumbprint of the public key (SHA-256 of its SPKI, base64url). */
  kid: string;
  x5t: string | null;
  x5tS256: string | null;
  subject: string | null;
  /** Epoch ms. */
  startsAt: number | null;
  endsAt: number | null;
  /** The public parts, as PEM. Left out in records of earlier versions. */
  certificate?: string | null;
  publicKey?: string;
}

const wrong = (why: string, remedy: string): Fault => new Fault('INPUT_INVALID', { detail: why, places: [{ path: 'secret', why }], remedy });

/**
 * Reads a private key, with its certificate where there is one, from pasted PEM blocks in any order.
 * @returns the PEM that is sealed (key first, then the certificate), and what may be shown.
 * @throws {Fault} INPUT_INVALID: no key, encrypted, several, or a certificate of another key.
 */
export function readClientKey(pasted: string, wanted: 'certificate' | 'key'): { pem: Secret; facts: KeyFacts } {
  const blocks = pasted.match(/-----BEGIN [A-Z0-9 ]+-----[\s\S]+?-----END [A-Z0-9 ]+-----/g) ?? [];
  const keys = blocks.filter((block) => /BEGIN [A-Z ]*PRIVATE KEY/.test(block));
  const certificates = blocks.filter((block) => block.startsWith('-----BEGIN CERTIFICATE'));
  if (blocks.length === 0) throw wrong('There is no PEM block in it.', 'Paste the whole block, from -----BEGIN to the end of the -----END line.');
  if (keys.length === 0) throw wrong('There is no private key in it.', 'Paste the private key too; the public part alone proves nothing.');
  if (keys.length > 1) throw wrong('There are several private keys in it.', 'Paste one key, and its certificate.');
  if (/ENCRYPTED/.test(keys[0] ?? '')) throw wrong('The private key is encrypted with a password.', 'Decrypt it first: `openssl pkey -in key.pem`.');
  let key: KeyObject;
  try {
    key = createPrivateKey(keys[0] ?? '');
  } catch {
    throw wrong('The private key cannot be read.', 'Check that nothing of the block was cut or changed.');
  }
  if (wanted === 'certificate' && certificates.length === 0)
    throw wrong('There is no certificate in it.', 'Paste the certificate beside its private key, or choose the kind \u201ckey\u201d.');
  const read = certificates.map(certificate);
  const own = read.find((one) => one.checkPrivateKey(key));
  if (read.length > 0 && !own) throw wrong('The certificate belongs to another private key.', 'Paste the key with which this certificate was requested.');
  return { pem: new Secret([keys[0], ...(own ? [own.toString().trim()] : [])].join('\n')), facts: factsOf(key, own ?? null) };
}

function certificate(pem: string): X509Certificate {
  try {
    return new X509Certificate(pem);
  } catch {
    throw wrong('The certificate cannot be read.', 'Check that nothing of the block was cut or changed.');
  }
}

const digest = (algorithm: 'sha1' | 'sha256', bytes: Buffer): string => createHash(algorithm).update(bytes).digest('base64url');

function factsOf(key: KeyObject, own: X509Certificate | null): KeyFacts {
  const details = key.asymmetricKeyDetails ?? {};
  return {
    type:
      key.asymmetricKeyType === 'ec'
        ? `EC ${details.namedCurve ?? ''}`.trim()
        : `${(key.asymmetricKeyType ?? '').toUpperCase()} ${details.modulusLength ?? ''}`.trim(),
    kid: digest('sha256', createPublicKey(key).export({ type: 'spki', format: 'der' })),
    x5t: own ? digest('sha1', own.raw) : null,
    x5tS256: own ? digest('sha256', own.raw) : null,
    subject: own ? own.subject.replaceAll('\n', ', ') : null,
    startsAt: own ? Date.parse(own.validFrom) : null,
    endsAt: own ? Date.parse(own.validTo) : null,
    certificate: own ? own.toString().trim() : null,
    publicKey: createPublicKey(key).export({ type: 'spki', format: 'pem' }).toString().trim(),
  };
}

/** Key and facts of a sealed PEM. */
export function openClientKey(pem: Secret): { key: KeyObject; facts: KeyFacts } {
  const { facts } = readClientKey(pem.reveal(), 'key');
  return { key: createPrivateKey(pem.reveal().match(/-----BEGIN [A-Z ]*PRIVATE KEY-----[\s\S]+?-----END [A-Z ]*PRIVATE KEY-----/)?.[0] ?? ''), facts };
}

/** Why this key cannot sign with the algorithm, or null. */
export function keyMismatch(facts: Pick<KeyFacts, 'type' | 'x5t'>, algorithm: ClientAssertionAlgorithm, keyName: string): string | null {
  const wanted = algorithm === 'ES256' ? 'EC prime256v1' : algorithm === 'ES384' ? 'EC secp384r1' : 'RSA';
  if (!facts.type.startsWith(wanted))
    return `The provider wants ${algorithm}, which needs ${algorithm === 'ES256' ? 'a P-256 key' : algorithm === 'ES384' ? 'a P-384 key' : 'an RSA key'}; this is ${facts.type}.`;
  if (keyName !== 'kid' && facts.x5t === null) return `The provider finds the key by its certificate (${keyName}); this key came without one.`;
  return null;
}
