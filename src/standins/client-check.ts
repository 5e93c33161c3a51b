import { createHash, timingSafeEqual, X509Certificate } from 'node:crypto';
import type { Request } from 'express';
import { decodeJwt, decodeProtectedHeader, jwtVerify } from 'jose';
import type { ServerParts } from './authorization-server.ts';
import type { RegisteredClient } from './state.ts';

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
  const good = client && [client.secret, ...(client.moreSecrets ?? [])].some((one) => one !== '' && same(one, secret));
  return good ? { client, byKey: false } : null;
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

async function checkAssertion(parts: ServerParts, assertion: string, find: (id: string) => RegisteredClient | null): Promise<RegisteredClient | null> {
  try {
    const client = find(decodeJwt(assertion).sub ?? '');
    if (!client?.certificate) return null;
    const own = new X509Certificate(client.certificate);
    const { algorithm, key_name: keyName, audience } = parts.definition.dialect.client_assertion;
    const thumb = (hash: 'sha1' | 'sha256', bytes: Buffer) => createHash(hash).update(bytes).digest('base64url');
    const wanted = {
      kid: thumb('sha256', own.publicKey.export({ type: 'spki', format: 'der' })),
      x5t: thumb('sha1', own.raw),
      'x5t#S256': thumb('sha256', own.raw),
    }[keyName];
    if ((decodeProtectedHeader(assertion) as Record<string, unknown>)[keyName] !== wanted) return null;
    const { payload } = await jwtVerify(assertion, own.publicKey, {
      algorithms: [algorithm],
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
