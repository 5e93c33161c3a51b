import { createPrivateKey, X509Certificate } from 'node:crypto';
import forge from 'node-forge';
import { Fault } from '../fault.ts';
import { Secret } from '../secret.ts';

const wrong = (why: string, remedy: string): Fault => new Fault('INPUT_INVALID', { detail: why, places: [{ path: 'secret', why }], remedy });

/** The most that is read, in bytes: a key with a chain of certificates has a few thousand. */
const LIMIT_BYTES = 64 * 1024;
/** Ten times what usual tools write; each round is a hash. */
const MAX_ROUNDS = 100_000;
const MAX_DEPTH = 20;

/**
 * Takes private key and certificates out of a PKCS#12 file (RFC 7292), given as base64; old files with RC2 and triple DES open too.
 * @returns PEM blocks: the key, then the certificate that belongs to it; the rest of a chain is left out, and said.
 * @throws {Fault} INPUT_INVALID: not such a file, the wrong password, no key or several.
 */
export function readPkcs12(base64: string, password: string): { pem: Secret; leftOut: number } {
  const bytes = Buffer.from(base64.replace(/-----[A-Z0-9 ]+-----/g, '').replace(/\s/g, ''), 'base64');
  if (bytes.length === 0 || bytes.length > LIMIT_BYTES)
    throw wrong('This is no PKCS#12 file in base64.', 'Choose the file itself (.p12 or .pfx), or paste it as base64.');
  let file: forge.pkcs12.Pkcs12Pfx;
  try {
    const asn1 = forge.asn1.fromDer(bytes.toString('binary'));
    if (roundsIn(asn1) > MAX_ROUNDS)
      throw wrong(
        `The file requests more than ${MAX_ROUNDS.toLocaleString('en')} rounds of key derivation.`,
        'Export it again with the usual settings, or paste it as PEM.',
      );
    file = forge.pkcs12.pkcs12FromAsn1(asn1, false, password);
  } catch (cause) {
    if (cause instanceof Fault) throw cause;
    const said = cause instanceof Error ? cause.message : '';
    if (/password|MAC/i.test(said))
      throw wrong('The password does not open this file.', 'Enter the password with which the file was made; it is not the client\u2019s secret.');
    throw wrong('This is no PKCS#12 file.', 'Choose the file itself (.p12 or .pfx). A certificate alone is pasted as PEM.');
  }
  const bags = (type: string) => file.getBags({ bagType: type })[type] ?? [];
  const keys = [...bags(forge.pki.oids.pkcs8ShroudedKeyBag ?? ''), ...bags(forge.pki.oids.keyBag ?? '')];
  if (keys.length === 0) throw wrong('There is no private key in this file.', 'Export it again together with its private key.');
  if (keys.length > 1) throw wrong('There are several private keys in this file.', 'Export the one key with its certificate.');
  const [bag] = keys;
  const info = bag?.key ? forge.pki.wrapRsaPrivateKey(forge.pki.privateKeyToAsn1(bag.key)) : bag?.asn1;
  if (!info) throw wrong('The private key in this file is of a kind that cannot be read.', 'Paste it as PEM instead: `openssl pkcs12 -in FILE -nodes`.');
  const key = forge.pki.privateKeyInfoToPem(info);
  const certificates = bags(forge.pki.oids.certBag ?? '').flatMap((one) =>
    one.cert ? [forge.pki.certificateToPem(one.cert)] : one.asn1 ? [pemOf(one.asn1)] : [],
  );
  const own = certificates.find((pem) => new X509Certificate(pem).checkPrivateKey(createPrivateKey(key)));
  return { pem: new Secret([key.trim(), ...(own ? [own.trim()] : [])].join('\n')), leftOut: certificates.length - (own ? 1 : 0) };
}

/**
 * The most rounds that any part of the file asks for: an INTEGER behind the salt, an OCTET STRING (RFC 7292 \u00a74, RFC 8018 \u00a7A.2). What
 * stands in octet strings of its own, as the safe contents do, is looked into as well.
 */
function roundsIn(asn1: forge.asn1.Asn1, depth = 0): number {
  if (depth > MAX_DEPTH) return 0;
  const { INTEGER, OCTETSTRING } = forge.asn1.Type;
  if (!Array.isArray(asn1.value)) {
    if (asn1.type !== OCTETSTRING || typeof asn1.value !== 'string') return 0;
    try {
      return roundsIn(forge.asn1.fromDer(asn1.value), depth + 1);
    } catch {
      return 0; // bytes that are no structure, such as a salt
    }
  }
  const members = asn1.value;
  return members.reduce((most, one, at) => {
    const behindSalt = one.type === INTEGER && members[at - 1]?.type === OCTETSTRING && typeof one.value === 'string';
    return Math.max(most, behindSalt ? integerOf(one.value as string) : roundsIn(one, depth + 1));
  }, 0);
}
const integerOf = (bytes: string): number => [...bytes].reduce((sum, one) => sum * 256 + one.charCodeAt(0), 0);

const pemOf = (asn1: forge.asn1.Asn1): string => forge.pem.encode({ type: 'CERTIFICATE', body: forge.asn1.toDer(asn1).getBytes() } as never);
