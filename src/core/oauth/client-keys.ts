import { createHash, createPrivateKey, createPublicKey, type KeyObject, X509Certificate } from 'node:crypto';
import { calculateJwkThumbprint, type JWK } from 'jose';
import { Fault } from '../fault.ts';
import { Secret } from '../secret.ts';
import { CLIENT_ASSERTION_ALGORITHMS, type ClientAssertionAlgorithm } from './methods.ts';

/** What may be shown of a private key or certificate. Thumbprints are base64url (RFC 7515 §4.1.7). */
export interface KeyFacts {
  /** RSA with its bits, or the curve. */
  type: string;
  /** The thumbprint of the public key (RFC 7638, SHA-256). In records of earlier versions the SHA-256 of its SPKI, as it was registered then. */
  kid: string;
  /** The key id that is sent: null where none is. Left out in records of earlier versions: then it is `kid`. */
  keyId?: string | null;
  /** What it signs with. Left out in records of earlier versions: then it is the definition's. */
  algorithm?: ClientAssertionAlgorithm;
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
export async function readClientKey(pasted: string, wanted: 'certificate' | 'key'): Promise<{ pem: Secret; facts: KeyFacts }> {
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
  return { pem: new Secret([keys[0], ...(own ? [own.toString().trim()] : [])].join('\n')), facts: await factsOf(key, own ?? null) };
}

function certificate(pem: string): X509Certificate {
  try {
    return new X509Certificate(pem);
  } catch {
    throw wrong('The certificate cannot be read.', 'Check that nothing of the block was cut or changed.');
  }
}

const digest = (algorithm: 'sha1' | 'sha256', bytes: Buffer): string => createHash(algorithm).update(bytes).digest('base64url');

async function factsOf(key: KeyObject, own: X509Certificate | null): Promise<KeyFacts> {
  const details = key.asymmetricKeyDetails ?? {};
  return {
    type:
      key.asymmetricKeyType === 'ec'
        ? `EC ${details.namedCurve ?? ''}`.trim()
        : `${(key.asymmetricKeyType ?? '').toUpperCase()} ${details.modulusLength ?? ''}`.trim(),
    kid: await calculateJwkThumbprint(createPublicKey(key).export({ format: 'jwk' }) as JWK, 'sha256'),
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
export async function openClientKey(pem: Secret): Promise<{ key: KeyObject; facts: KeyFacts }> {
  const { facts } = await readClientKey(pem.reveal(), 'key');
  return { key: createPrivateKey(pem.reveal().match(/-----BEGIN [A-Z ]*PRIVATE KEY-----[\s\S]+?-----END [A-Z ]*PRIVATE KEY-----/)?.[0] ?? ''), facts };
}

const CURVES: Record<string, ClientAssertionAlgorithm> = { 'EC prime256v1': 'ES256', 'EC secp384r1': 'ES384', 'EC secp521r1': 'ES512', ED25519: 'EdDSA' };

/** What a key of this type can sign with (RFC 7518 §3.1, RFC 8037 §3.1), the usual ones first. */
function algorithmsOf(type: string): ClientAssertionAlgorithm[] {
  if (type.startsWith('RSA')) return CLIENT_ASSERTION_ALGORITHMS.filter((one) => /^[RP]S/.test(one));
  return Object.hasOwn(CURVES, type) ? [CURVES[type] as ClientAssertionAlgorithm] : [];
}

/**
 * With what a key signs: what was chosen for it; else what the provider lists and the definition prefers; else what the key can.
 * @param listed `token_endpoint_auth_signing_alg_values_supported` (RFC 8414 §2), where the provider reports it
 * @returns the algorithm, or why there is none: the provider lists none of those that the key can, or the choice is not the key's
 */
export function chooseAlgorithm(
  type: string,
  preferred: ClientAssertionAlgorithm,
  listed: readonly string[] | undefined,
  chosen?: ClientAssertionAlgorithm,
): { algorithm: ClientAssertionAlgorithm } | { why: string } {
  const able = algorithmsOf(type);
  if (able.length === 0) return { why: `Keys of this type (${type}) cannot sign here: use RSA, P-256, P-384, P-521 or Ed25519.` };
  if (chosen) return able.includes(chosen) ? { algorithm: chosen } : { why: `A key of this type (${type}) signs with ${able.join(', ')}, not with ${chosen}.` };
  const taken = listed?.length ? able.filter((one) => listed.includes(one)) : able;
  if (taken.length === 0) return { why: `The provider takes ${listed?.join(', ')}; a key of this type (${type}) signs with ${able.join(', ')}.` };
  return { algorithm: taken.includes(preferred) ? preferred : (taken[0] as ClientAssertionAlgorithm) };
}

/** Why the provider would not find this key, or null: it looks for a certificate, and the key came without one. */
export const keyNameProblem = (facts: Pick<KeyFacts, 'x5t'>, keyName: string): string | null =>
  keyName !== 'kid' && facts.x5t === null ? `The provider finds the key by its certificate (${keyName}); this key came without one.` : null;
