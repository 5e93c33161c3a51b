import { parse as parseForm } from 'node:querystring';
import { LRUCache } from 'lru-cache';
import { CHALLENGE, type OAuthRequest, Refusal } from './oauth-answer.ts';

export type Form = ReadonlyMap<string, string>;

/** An integration sends the same form each time. Kept are those without a secret in them. */
const lately = new LRUCache<string, Form>({ max: 5_000 });
const MAX_KEPT_LENGTH = 512;
/** As nearly all write it: compared first, because patterns cost more. */
const FORM_TYPE = 'application/x-www-form-urlencoded';
const PLAIN = new Set(['grant_type', 'resource', 'audience', 'scope', 'client_id', 'minimum_life']);

/** Form body only, no query, no repeated parameter (RFC 6749 §3.2). @throws {Refusal} */
export function readForm(request: OAuthRequest): Form {
  if (request.query !== '') throw new Refusal(400, 'invalid_request', 'Parameters belong in the body, not in the address.');
  if (request.contentType !== FORM_TYPE && /^application\/json\s*(;|$)/i.test(request.contentType ?? '')) return readJsonForm(request.body); // some tools send it so; what it shows is the same
  if (request.contentType !== FORM_TYPE && !/^application\/x-www-form-urlencoded\s*(;|$)/i.test(request.contentType ?? ''))
    throw new Refusal(400, 'invalid_request', 'The body must be application/x-www-form-urlencoded.');
  const kept = lately.get(request.body);
  if (kept) return kept;
  const form = new Map<string, string>();
  for (const [name, value] of Object.entries(parseForm(request.body))) {
    if (Array.isArray(value)) throw new Refusal(400, 'invalid_request', `The parameter ${name.slice(0, 40)} is repeated.`);
    form.set(name, value ?? '');
  }
  if (request.body.length <= MAX_KEPT_LENGTH && [...form.keys()].every((name) => PLAIN.has(name))) lately.set(request.body, form);
  return form;
}

/** The same parameters as members of one JSON object; RFC 6749 knows a form only, and the answer is that of a form. @throws {Refusal} */
function readJsonForm(body: string): Form {
  let document: unknown;
  try {
    document = JSON.parse(body);
  } catch {
    throw new Refusal(400, 'invalid_request', 'The body is not JSON. Send application/x-www-form-urlencoded, or a JSON object of texts.');
  }
  if (typeof document !== 'object' || document === null || Array.isArray(document))
    throw new Refusal(400, 'invalid_request', 'The body must be a JSON object of texts.');
  const form = new Map<string, string>();
  for (const [name, value] of Object.entries(document)) {
    if (typeof value !== 'string' && typeof value !== 'number') throw new Refusal(400, 'invalid_request', `The parameter ${name.slice(0, 40)} must be a text.`);
    form.set(name, String(value));
  }
  return form;
}

/** Basic or in the body, never both (RFC 6749 §2.3). `key` null: only an id came, as from a tool that keeps no secret. @throws {Refusal} */
export function credentials(authorization: string | undefined, form: Form): { id: string; key: string | null } {
  const inBody = form.get('client_secret') !== undefined;
  if (authorization === undefined) {
    const [id, key] = [form.get('client_id'), form.get('client_secret')];
    if (id) return { id, key: key || null };
    throw new Refusal(401, 'invalid_client', 'Send the caller\u2019s id and key, as Basic or as client_id and client_secret.', { headers: CHALLENGE });
  }
  if (inBody) throw new Refusal(400, 'invalid_request', 'Authenticate once: as Basic, or in the body.');
  const pair = basicPair(authorization);
  if (pair === null) throw new Refusal(401, 'invalid_client', 'The Authorization header is not Basic with id and key.', { headers: CHALLENGE });
  const named = form.get('client_id');
  if (named !== undefined && named !== pair.id) throw new Refusal(400, 'invalid_request', 'The client_id in the body is another than the one in Basic.');
  return pair;
}

/** Id and key of a Basic header (RFC 7617), or null. */
function basicPair(authorization: string): { id: string; key: string } | null {
  const encoded = /^Basic\s+([A-Za-z0-9+/=_-]+)$/i.exec(authorization)?.[1];
  const pair = encoded ? Buffer.from(encoded, 'base64').toString('utf8') : '';
  const colon = pair.indexOf(':');
  return colon <= 0 ? null : { id: decode(pair.slice(0, colon)), key: decode(pair.slice(colon + 1)) };
}

/** Id and key of a caller in one header: Basic, or `Bearer ID.KEY` for tools that have one box for it. Null: neither. */
export function callerPair(authorization: string | undefined): { id: string; key: string } | null {
  const bearer = authorization === undefined ? undefined : /^Bearer ([A-Za-z0-9_-]{1,150})\.([A-Za-z0-9_-]{1,150})$/i.exec(authorization);
  return bearer ? { id: bearer[1] as string, key: bearer[2] as string } : basicPair(authorization ?? '');
}

/** Our ids and keys hold nothing that form-encoding changes, so that decoding is safe for clients that do not encode. */
const decode = (text: string): string => {
  if (!/[%+]/.test(text)) return text;
  try {
    return decodeURIComponent(text.replaceAll('+', ' '));
  } catch {
    return text;
  }
};
