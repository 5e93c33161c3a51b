import { createPublicKey, generateKeyPair, type KeyObject, X509Certificate } from 'node:crypto';
import { promisify } from 'node:util';
import type { z } from 'zod';
import type { ShownCertificate, ThumbprintVerdict } from '../../api/clients.ts';
import type { KeyKind } from '../../core/certificates/kinds.ts';
import { compareThumbprint, thumbprintsOf } from '../../core/certificates/thumbprints.ts';
import { Fault } from '../../core/fault.ts';
import { type KeyFacts, openClientKey } from '../../core/oauth/client-keys.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import type { SecretRow } from '../store/secrets.ts';
import { findClient } from './clients.ts';
import type { ClientParts } from './parts.ts';
import { addSecret, findSecret } from './secrets.ts';

const YEAR_MS = 365 * 86_400_000;

/** A new key pair; made off the main thread, since a large one takes seconds. */
async function newKey(kind: KeyKind): Promise<KeyObject> {
  const make = promisify(generateKeyPair);
  if (kind === 'P-256' || kind === 'P-384') return (await make('ec', { namedCurve: kind === 'P-256' ? 'prime256v1' : 'secp384r1' })).privateKey;
  return (await make('rsa', { modulusLength: Number(kind.slice(4)) })).privateKey;
}

/**
 * Makes a key and a self-signed certificate for it; the private key is sealed and never leaves. It is verified like any other secret,
 * once its public part was uploaded at the provider.
 * @throws {Fault} INPUT_INVALID
 */
export async function makeCertificate(s: ClientParts, { params, body: input, actor }: Command<'makeCertificate'>): Promise<void> {
  const { provider, client: name } = params;
  await findClient(s, provider, name);
  const startsAt = input.starts_at === null ? s.ports.clock.now() : Date.parse(input.starts_at);
  const endsAt = input.ends_at === null ? startsAt + YEAR_MS : Date.parse(input.ends_at);
  if (endsAt <= startsAt) throw new Fault('INPUT_INVALID', { places: [{ path: 'ends_at', why: 'It would expire before it starts.' }] });
  const key = await newKey(input.key);
  const { selfSigned } = await import('../../core/certificates/self-signed.ts'); // large, and seldom needed
  const certificate = await selfSigned(key, { commonName: input.common_name, startsAt, endsAt, serial: s.ports.random.bytes(16) });
  const secret = `${key.export({ type: 'pkcs8', format: 'pem' })}${certificate}`;
  const dates = { starts_at: iso(startsAt), ends_at: iso(endsAt) };
  const entry = { secret, kind: 'certificate' as const, label: input.label, ...dates, form: 'pem' as const, password: '', at_once: false, take_as_is: false };
  await addSecret(s, { params, body: entry, actor }, { waits: true });
}

/** The facts of a key or certificate; those of earlier records are read from the sealed key. @throws {Fault} NOT_FOUND */
async function factsOf(s: ClientParts, row: SecretRow): Promise<KeyFacts> {
  const kept = row.facts;
  if (kept?.publicKey) return kept;
  if (row.kind !== 'certificate' && row.kind !== 'key')
    throw new Fault('NOT_FOUND', { detail: 'This secret has no public part.', remedy: 'Only certificates and keys have one.' });
  return (await openClientKey(await s.sealer.open({ table: 'client_secrets', row: row.id, column: 'sealed' }, row.sealed))).facts;
}

const derOf = (pem: string): Buffer => new X509Certificate(pem).raw;

export async function showCertificate(s: ClientParts, provider: string, name: string, id: string): Promise<ShownCertificate> {
  const { row } = await findSecret(s, provider, name, id);
  const facts = await factsOf(s, row);
  const der = facts.certificate ? derOf(facts.certificate) : null;
  return {
    subject: facts.subject,
    starts_at: isoOrNull(facts.startsAt),
    ends_at: isoOrNull(facts.endsAt),
    pem: facts.certificate ?? facts.publicKey ?? '',
    der: der?.toString('base64') ?? null,
    thumbprints: der ? thumbprintsOf(der) : null,
    keys_url: `${s.settings.publicUrl}/oauth/keys/${provider}/${name}`,
  };
}

export async function checkThumbprint(s: ClientParts, { params, body: input }: Command<'compareThumbprint'>): Promise<z.output<typeof ThumbprintVerdict>> {
  const { row } = await findSecret(s, params.provider, params.client, params.secret);
  const facts = await factsOf(s, row);
  if (!facts.certificate) return { same: false, says: 'This key came without a certificate, so that it has no thumbprint.' };
  return compareThumbprint(input.pasted, thumbprintsOf(derOf(facts.certificate)));
}

/** A client's public keys as a JWK set (RFC 7517 §5): those in use, in reserve or being verified, and nothing else. */
export async function publicKeys(s: ClientParts, provider: string, name: string): Promise<{ keys: Record<string, unknown>[] }> {
  const { record, definition } = await findClient(s, provider, name);
  const rows = (await s.store.secrets.ofClient(record.id)).filter(
    (row) => (row.kind === 'certificate' || row.kind === 'key') && ['active', 'former', 'unverified'].includes(row.state),
  );
  const keys = await Promise.all(
    rows.map(async (row) => {
      const facts = await factsOf(s, row);
      const der = facts.certificate ? derOf(facts.certificate) : null;
      return {
        ...createPublicKey(facts.publicKey ?? '').export({ format: 'jwk' }),
        ...(facts.keyId === null ? {} : { kid: facts.keyId ?? facts.kid }),
        use: 'sig',
        alg: facts.algorithm ?? definition.dialect.client_assertion.algorithm,
        ...(der ? { x5c: [der.toString('base64')], x5t: facts.x5t, 'x5t#S256': facts.x5tS256 } : {}),
      };
    }),
  );
  return { keys };
}
