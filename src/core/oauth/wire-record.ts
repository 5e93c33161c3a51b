import type { Secret } from '../secret.ts';
import { masked } from './masked.ts';
import { plainText } from './token-answer.ts';
import type { WireOutcome, WireRequest } from './wire.ts';

/** What went over the wire in one attempt, without anything that is worth stealing: an allow-list, everything else is a mask. */
export interface WireRecord {
  request: { method: string; url: string; headers: Record<string, string>; form: Record<string, string> };
  /** Null: no answer came; `reason` says why. */
  answer: { status: number; headers: Record<string, string>; body: unknown } | null;
  reason: string | null;
  took_ms: number;
}

const FORM_SHOWN = new Set(['grant_type', 'scope', 'redirect_uri', 'client_id', 'resource', 'audience', 'client_assertion_type']);
const REQUEST_HEADERS_SHOWN = new Set(['content-type', 'accept', 'user-agent']);
const ANSWER_HEADERS_SHOWN = new Set(['content-type', 'content-length', 'date', 'retry-after', 'cache-control', 'server', 'www-authenticate']);
const FREE_TEXT_HEADERS = new Set(['server', 'www-authenticate', 'user-agent']);
const MEMBERS_SHOWN = new Set(['token_type', 'scope', 'error', 'error_uri', 'error_code', 'code', 'status']);
const MAX_TEXT = 300;

const mask = (text: string): string => `[masked, ${text.length} characters]`;

function maskHeaders(headers: Record<string, string>, shown: Set<string>, hides: readonly Secret[]): Record<string, string> {
  return Object.fromEntries(
    Object.entries(headers).flatMap(([name, value]) => {
      const lower = name.toLowerCase();
      if (lower === 'authorization') return [[lower, `${value.split(' ', 1)[0]} ${mask(value.slice(value.indexOf(' ') + 1))}`]];
      if (!shown.has(lower)) return [];
      // What a provider writes freely may echo a token; a media type or a date cannot.
      return [[lower, FREE_TEXT_HEADERS.has(lower) ? (plainText(masked(value, hides)) ?? '') : value.slice(0, MAX_TEXT)]];
    }),
  );
}

function maskBody(body: string, hides: readonly Secret[]): unknown {
  let parsed: unknown;
  try {
    parsed = JSON.parse(body);
  } catch {
    return (plainText(masked(body, hides)) ?? '').slice(0, MAX_TEXT); // a page: its long opaque runs are masked, the words stay
  }
  if (typeof parsed !== 'object' || parsed === null || Array.isArray(parsed)) return mask(body);
  return Object.fromEntries(
    Object.entries(parsed).map(([name, value]) => [(plainText(masked(name, hides)) ?? '').slice(0, 60), maskMember(name, value, hides)]),
  );
}

function maskMember(name: string, value: unknown, hides: readonly Secret[]): unknown {
  if (typeof value === 'number' || typeof value === 'boolean' || value === null) return value;
  if (typeof value !== 'string') return '[not shown]';
  if (name === 'error_description' || MEMBERS_SHOWN.has(name)) return plainText(masked(value, hides));
  return mask(value);
}

function parametersOf(request: WireRequest): [string, string][] {
  if (!request.headers['content-type']?.startsWith('application/json')) return [...new URLSearchParams(request.body ?? '')];
  return Object.entries(JSON.parse(request.body ?? '{}') as Record<string, unknown>).map(([name, value]) => [name, String(value)]);
}

/** The masked record of one request and what came of it. */
export function wireRecord(request: WireRequest, outcome: WireOutcome): WireRecord {
  const hides = request.hides ?? [];
  const form = Object.fromEntries(parametersOf(request).map(([name, value]) => [name, FORM_SHOWN.has(name) ? value.slice(0, MAX_TEXT) : mask(value)]));
  return {
    request: { method: request.method, url: request.url, headers: maskHeaders(request.headers, REQUEST_HEADERS_SHOWN, hides), form },
    answer:
      outcome.kind === 'answer'
        ? { status: outcome.status, headers: maskHeaders(outcome.headers, ANSWER_HEADERS_SHOWN, hides), body: maskBody(outcome.body, hides) }
        : null,
    reason: outcome.kind === 'answer' ? null : outcome.reason,
    took_ms: outcome.tookMs,
  };
}
