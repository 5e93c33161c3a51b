import { createHash, timingSafeEqual, X509Certificate } from 'node:crypto';
import type { Request } from 'express';
import { calculateJwkThumbprint, decodeJwt, decodeProtectedHeader, type JWK, jwtVerify } from 'jose';
import type { KEY_NAMES } from '../core/oauth/methods.ts';
import type { ServerParts } from './server-parts.ts';
import type { RegisteredClient } from './state.ts';
import { ACCOUNTS } from './world.ts';

type KeyName = (typeof KEY_NAMES)[number];

/** A client that showed who it is, and by what. */
export interface KnownClient {
  client: RegisteredClient;
  byKey: boolean;
}

const seen = new Set<string>();
const text = (value: unknown): string => (typeof value === 'string' ? value : '');

/** RFC 6749 §2.3.1 as the dialect has it, or a signed assertion (RFC 7523 §3). Only the ways that the definition lists are taken. */
export async function checkClient(parts: ServerParts, request: Request): Promise<KnownClient | null> {
  const body = (request.body ?? {}) as Record<string, unknown>;
  const methods = parts.definition.server.token_endpoint_auth_methods_supported;
  const find = (id: string): RegisteredClient | null => {
    const client = parts.store.state.clients[id];
    return client?.realm === parts.realm ? client : null;
  };
  if (text(body.client_assertion) !== '') {
    const client = methods.includes('private_key_jwt') ? await checkAssertion(parts, text(body.client_assertion), find) : null;
    return client && { client, byKey: true };
  }
  const basic = /^Basic (.+)$/i.exec(request.headers.authorization ?? '')?.[1];
  if (basic && !methods.includes('client_secret_basic')) return null;
  if (!basic && text(body.client_secret) === '') {
    const client = methods.includes('none') ? find(text(body.client_id)) : null;
    return client && { client, byKey: false };
  }
  if (!basic && !methods.includes('client_secret_post')) return null;
  const [id = '', secret = ''] = basic ? pairOf(parts, basic) : [text(body.client_id), text(body.client_secret)];
  const client = find(id);
  const good = client?.secrets.some((one) => (one.endsAt === null || one.endsAt > parts.now()) && same(one.value, secret));
  return client && good ? { client, byKey: false } : null;
}

function pairOf(parts: ServerParts, basic: string): [string, string] {
  const pair = Buffer.from(basic, 'base64').toString('utf8');
  const colon = pair.indexOf(':');
  const decode = parts.definition.dialect.basic_encoding === 'raw' ? (part: string) => part : (part: string) => decodeURIComponent(part.replaceAll('+', ' '));
  return [decode(pair.slice(0, colon)), decode(pair.slice(colon + 1))];
}

function same(a: string, b: string): boolean {
  const [one, other] = [Buffer.from(a), Buffer.from(b)];
  return one.length === other.length && timingSafeEqual(one, other);
}

/** RFC 7523 §2.1: a service account asks in the name of an account. Null: the assertion is not good; `sub` null: there is no such account. */
export async function checkAssertionGrant(parts: ServerParts, assertion: string): Promise<{ known: KnownClient; sub: string | null; scope: string } | null> {
  const find = (id: string): RegisteredClient | null => {
    const client = parts.store.state.clients[id];
    return client?.realm === parts.realm ? client : null;
  };
  const client = await checkAssertion(parts, assertion, find, 'iss');
  const { sub: named, scope } = client ? decodeJwt(assertion) : {};
  const account = ACCOUNTS.find((one) => one.email === named || one.sub === named);
  return client ? { known: { client, byKey: true }, sub: account?.sub ?? null, scope: text(scope) } : null;
}

async function checkAssertion(
  parts: ServerParts,
  assertion: string,
  find: (id: string) => RegisteredClient | null,
  by: 'sub' | 'iss' = 'sub',
): Promise<RegisteredClient | null> {
  try {
    const client = find(decodeJwt(assertion)[by] ?? '');
    if (!client) return null;
    const { algorithm, key_name: keyName, audience } = parts.definition.dialect.client_assertion;
    const named = (decodeProtectedHeader(assertion) as Record<string, unknown>)[keyName];
    const certificates = client.certificates.map((pem) => new X509Certificate(pem));
    const names = await Promise.all(certificates.map((certificate) => nameOf(certificate, keyName)));
    const own = certificates[named === undefined ? 0 : names.indexOf(String(named))];
    if (!own || Date.parse(own.validTo) <= parts.now()) return null;
    const { payload } = await jwtVerify(assertion, own.publicKey, {
      algorithms: parts.definition.server.token_endpoint_auth_signing_alg_values_supported ?? [algorithm],
      issuer: client.id,
      audience: (audience === 'issuer' ? parts.definition.server.issuer : undefined) ?? parts.definition.server.token_endpoint,
      requiredClaims: ['jti', 'exp'],
      currentDate: new Date(parts.now()),
    });
    if (seen.has(payload.jti ?? '')) return null; // an assertion is good once
    seen.add(payload.jti ?? '');
    return client;
  } catch {
    return null; // whatever is wrong with it, it proves nothing
  }
}

/** How a key is named in the header of an assertion (RFC 7515 §4.1). */
async function nameOf(certificate: X509Certificate, by: KeyName): Promise<string> {
  const thumb = (hash: 'sha1' | 'sha256', bytes: Buffer) => createHash(hash).update(bytes).digest('base64url');
  if (by === 'kid') return calculateJwkThumbprint(certificate.publicKey.export({ format: 'jwk' }) as JWK, 'sha256');
  return thumb(by === 'x5t' ? 'sha1' : 'sha256', certificate.raw);
}
