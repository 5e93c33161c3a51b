import { z } from 'zod';
import type { ProviderDefinition } from '../provider/definition.ts';
import { Secret } from '../secret.ts';
import { authenticateClient, type ClientCredentials } from './client-authentication.ts';
import { hidesOf } from './masked.ts';
import { type Evidence, readTokenOutcome, type TokenOutcome } from './token-answer.ts';
import { joinScopes, type RequestOnce } from './token-request.ts';
import type { WireOutcome, WireRequest } from './wire.ts';

const LIMIT_BYTES = 64 * 1024;
const INTERVAL_SECONDS = 5;
const SLOWER_BY_MS = 5_000;
const MAX_INTERVAL_MS = 60_000;

/** A device authorization answer (RFC 8628 §3.2). */
export interface DeviceAuthorization {
  deviceCode: Secret;
  userCode: string;
  /** Where the person enters the code. */
  page: string;
  /** The same with the code in it, where the provider gives one. */
  pageWithCode: string | null;
  lifeMs: number;
  intervalMs: number;
}

/** Asks for a device code (RFC 8628 §3.1). */
export async function deviceAuthorizationRequest(
  definition: ProviderDefinition,
  credentials: ClientCredentials,
  scopes: readonly string[],
  once: RequestOnce,
): Promise<WireRequest> {
  const parameters = new Map<string, string>([['client_id', credentials.clientId]]);
  if (scopes.length > 0) parameters.set('scope', joinScopes(definition.dialect, scopes));
  const offline = definition.dialect.offline_parameter;
  if (offline) parameters.set(offline.name, offline.value);
  const headers: Record<string, string> = {
    ...definition.dialect.token_headers,
    'content-type': 'application/x-www-form-urlencoded',
    accept: 'application/json',
  };
  await authenticateClient(definition, credentials, { parameters, headers }, once);
  const url = definition.server.device_authorization_endpoint ?? '';
  const hides = hidesOf(credentials);
  return { method: 'POST', url, headers, body: new URLSearchParams([...parameters]).toString(), deadlineMs: once.deadlineMs, limitBytes: LIMIT_BYTES, hides };
}

const seconds = z.union([z.number(), z.string().regex(/^\d+$/).transform(Number)]).pipe(z.number().positive().max(86_400));
const page = z
  .string()
  .max(1000)
  .regex(/^https?:\/\/[^\s]+$/);
const Answer = z.object({
  device_code: z.string().min(1).max(2000),
  user_code: z
    .string()
    .min(1)
    .max(60)
    .regex(/^[\x20-\x7e]+$/),
  verification_uri: page,
  verification_uri_complete: page.nullish(),
  expires_in: seconds,
  interval: seconds.nullish(),
});

/** What came back: a code to show, or the rejection as any token request would have it. */
export function readDeviceAuthorization(
  outcome: WireOutcome,
  definition: Pick<ProviderDefinition, 'dialect'>,
): { kind: 'given'; device: DeviceAuthorization } | { kind: 'failed'; outcome: Exclude<TokenOutcome, { kind: 'tokens' }> } {
  if (outcome.kind === 'answer' && outcome.status >= 200 && outcome.status < 300) {
    const read = Answer.safeParse(parse(outcome.body));
    if (read.success) {
      const { device_code, user_code, verification_uri, verification_uri_complete, expires_in, interval } = read.data;
      return {
        kind: 'given',
        device: {
          deviceCode: new Secret(device_code),
          userCode: user_code,
          page: verification_uri,
          pageWithCode: verification_uri_complete ?? null,
          lifeMs: expires_in * 1000,
          intervalMs: (interval ?? INTERVAL_SECONDS) * 1000,
        },
      };
    }
  }
  const failed = readTokenOutcome(outcome, definition.dialect);
  if (failed.kind !== 'tokens') return { kind: 'failed', outcome: failed };
  const evidence: Evidence = { ...failed.evidence, reason: 'unreadable' };
  return { kind: 'failed', outcome: { kind: 'unclear', evidence } };
}

function parse(body: string): unknown {
  try {
    return JSON.parse(body);
  } catch {
    return undefined; // not JSON: the caller says what it was instead
  }
}

/**
 * One answer while polling (RFC 8628 §3.5): wait and ask again, more slowly where told so or where nothing came back, or an end.
 * @param intervalMs the pause so far
 */
export function pollingStep(outcome: TokenOutcome, intervalMs: number): { kind: 'wait'; intervalMs: number } | { kind: 'ended' } {
  if (outcome.kind === 'unsent' || outcome.kind === 'unclear') return { kind: 'wait', intervalMs: Math.min(intervalMs * 2, MAX_INTERVAL_MS) };
  if (outcome.kind === 'busy') return { kind: 'wait', intervalMs: Math.min(Math.max(outcome.retryAfterMs ?? 0, intervalMs + SLOWER_BY_MS), MAX_INTERVAL_MS) };
  if (outcome.kind === 'tokens') return { kind: 'ended' };
  if (outcome.evidence.error === 'authorization_pending') return { kind: 'wait', intervalMs };
  if (outcome.evidence.error === 'slow_down') return { kind: 'wait', intervalMs: Math.min(intervalMs + SLOWER_BY_MS, MAX_INTERVAL_MS) };
  return { kind: 'ended' };
}
