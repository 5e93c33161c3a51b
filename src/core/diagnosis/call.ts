import { at, own } from '../json.ts';
import { plainText } from '../oauth/token-answer.ts';
import { reasonInWords } from '../oauth/wire.ts';
import type { Api } from '../provider/api.ts';
import type { ProviderDefinition } from '../provider/definition.ts';
import type { ShownClaims } from './claims.ts';
import { type Diagnosis, diagnosis } from './diagnosis.ts';

/** One call and its answer, and what we know of the token that it carried. */
export interface CallSeen {
  definition: ProviderDefinition;
  api: Pick<Api, 'error_at' | 'error_meanings' | 'title' | 'base_url'>;
  /** Null: no answer came; `reason` says why, in a word of ours. */
  status: number | null;
  reason: string | null;
  body: string;
  /** `WWW-Authenticate` (RFC 6750 §3). */
  challenge: string | null;
  retryAfterSeconds: number | null;
  /** Scopes of which one is needed, where the definition knows the operation. */
  needs: readonly string[];
  scopesRequested: readonly string[];
  scopesGranted: readonly string[];
  claims: ShownClaims | null;
  /** The client's own token, not a person's. */
  ofClient: boolean;
  byCertificate: boolean;
  now: number;
}

/** Verdict first: is the token rejected, does it lack a right and whose half, or is the call wrong? */
export function diagnoseCall(call: CallSeen): Diagnosis | null {
  const { status, definition, api } = call;
  if (status === null)
    return diagnosis(call.reason === 'timeout' || call.reason === 'reset' ? 'answer_lost' : 'provider_unreachable', {
      evidence: [`No answer: ${reasonInWords(call.reason ?? 'other')}.`],
      title: 'The API did not answer.',
      remedy: 'See whether the provider is down, then try the call again.',
    });
  const body = parse(call.body);
  const inside = definition.dialect.error_at === undefined ? undefined : at(body, definition.dialect.error_at);
  const isError = status >= 400 || (inside !== undefined && inside !== null && inside !== false && inside !== '');
  if (status < 300 && !isError) return null;
  const named = inside ?? at(body, api.error_at ?? '/error');
  const code = typeof named === 'string' || typeof named === 'number' ? String(named) : null;
  const message = ['/error_description', '/message', '/error/message', '/detail', '/title']
    .map((pointer) => at(body, pointer))
    .find((one) => typeof one === 'string');
  const words = `${code ?? ''} ${typeof message === 'string' ? message : ''} ${call.challenge ?? ''}`;
  const seen = [`HTTP ${status}`, plainText(code), typeof message === 'string' ? `\u201c${plainText(message)}\u201d` : null].filter(Boolean).join(', ');
  const meant =
    code === null
      ? undefined
      : (own(api.error_meanings, code) ?? (own(definition.dialect.error_words, code) === 'invalid_grant' ? 'token_unknown' : undefined));
  if (meant === 'scope_missing') return lackingScope(call, seen, words);
  if (meant === 'role_missing') return diagnosis('role_missing', { evidence: [seen, roleSays(definition)] });
  if (code === 'insufficient_scope' && status < 400) return lackingScope(call, seen, words); // RFC 6750's word, inside a good status
  if (meant !== undefined) return diagnosis(meant, { evidence: [seen, wait(call)] });
  if (status === 401 || code === 'invalid_token') return refusedToken(call, seen, words);
  if (status === 403) return lackingRight(call, seen, words);
  if (status === 404 || status === 410) return diagnosis('thing_missing', { evidence: [seen] });
  if (status === 429) return diagnosis('quota_used_up', { evidence: [seen, wait(call)] });
  if (status >= 500) return diagnosis('provider_down', { evidence: [seen] });
  if (status >= 300 && status < 400) return diagnosis('call_wrong', { evidence: [seen, 'The API redirects, and a token is not carried to another address.'] });
  if (status >= 400) return diagnosis('call_wrong', { evidence: [seen] });
  return diagnosis('error_inside', { evidence: [seen], certain: false, also: ['call_wrong', 'token_unknown'] });
}

const wait = (call: CallSeen): string | null => (call.retryAfterSeconds === null ? null : `It asks to wait ${call.retryAfterSeconds} s.`);
const roleSays = (definition: ProviderDefinition): string | null =>
  definition.registration.roles[0] ? `The role that is needed: ${definition.registration.roles[0]}.` : null;

function refusedToken(call: CallSeen, seen: string, words: string): Diagnosis {
  const { claims } = call;
  const exp = claims?.exp === undefined ? null : Date.parse(claims.exp);
  if (exp !== null && exp <= call.now) return diagnosis('token_ended', { evidence: [seen, `By its own claims it ended at ${claims?.exp}.`] });
  if (/expired|run out/i.test(words) && !/unknown/i.test(words)) return diagnosis('token_ended', { evidence: [seen] });
  const audience = call.definition.dialect.token_parameters.audience ?? call.definition.dialect.resource;
  if (/audience|\baud\b/i.test(words))
    return diagnosis('audience_wrong', {
      evidence: [seen, claims?.aud && `The token names the audience ${claims.aud}.`, audience && `Asked for: ${audience}.`],
    });
  return diagnosis('token_unknown', {
    evidence: [seen, claims?.aud && `The token names the audience ${claims.aud}.`],
    certain: false,
    also: ['grant_withdrawn', 'audience_wrong'],
  });
}

/** RFC 6750 §3.1, `insufficient_scope`: whose half is missing depends on what was requested and granted. */
function lackingScope(call: CallSeen, seen: string, words: string): Diagnosis {
  const told = /scope="?([^",]+)"?/.exec(call.challenge ?? '')?.[1]?.split(' ') ?? [];
  const needed =
    call.needs.length > 0 ? call.needs : told.length > 0 ? told : call.definition.scopes.map((scope) => scope.name).filter((name) => words.includes(name));
  const lacking = needed.filter((scope) => !call.scopesGranted.includes(scope));
  const unticked = lacking.filter((scope) => call.scopesRequested.includes(scope));
  if (unticked.length > 0) return diagnosis('scope_unticked', { evidence: [seen, `Asked for and not granted: ${unticked.join(', ')}.`] });
  return diagnosis('scope_missing', {
    evidence: [seen, lacking.length > 0 && `${lacking.length > 1 ? 'One of these is needed' : 'Needed'}: ${lacking.join(', ')}; it was not requested.`],
  });
}

function lackingRight(call: CallSeen, seen: string, words: string): Diagnosis {
  if (/insufficient[_ ]scope/i.test(words)) return lackingScope(call, seen, words);
  if (/certificate/i.test(words) && !call.byCertificate) return diagnosis('certificate_needed', { evidence: [seen] });
  if (/\brole/i.test(words)) return diagnosis('role_missing', { evidence: [seen, roleSays(call.definition)], certain: false });
  if (/(api|service|interface).*(not (been )?(opened|enabled|activated)|disabled)/i.test(words))
    return diagnosis('api_not_opened', { evidence: [seen, `The API: ${call.api.title}.`], certain: false });
  if (/quota|rate limit|too many/i.test(words)) return diagnosis('quota_used_up', { evidence: [seen, wait(call)], certain: false });
  if (/admin|organi[sz]ation/i.test(words)) return diagnosis('admin_consent_missing', { evidence: [seen], certain: false });
  if (call.needs.length > 0 && !call.needs.some((scope) => call.scopesGranted.includes(scope))) return lackingScope(call, seen, words);
  if (call.ofClient)
    return diagnosis('role_missing', {
      evidence: [seen, 'The token is the client\u2019s own, and its scopes allow the call.'],
      certain: false,
      also: ['api_not_opened'],
    });
  return diagnosis('person_lacks_right', {
    evidence: [
      seen,
      call.needs.length > 0 && `The token holds a scope that allows it: ${call.needs.filter((scope) => call.scopesGranted.includes(scope)).join(', ')}.`,
    ],
    certain: call.needs.length > 0,
    also: ['api_not_opened'],
  });
}

function parse(body: string): unknown {
  try {
    return JSON.parse(body);
  } catch {
    return undefined; // not JSON: the status alone speaks
  }
}
