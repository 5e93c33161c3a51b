import { approvalSeen } from '../oauth/approval-check.ts';
import { compareRedirectUris, nearest } from '../oauth/redirect-uri.ts';
import type { TokenOutcome } from '../oauth/token-answer.ts';
import { reasonInWords } from '../oauth/wire.ts';
import type { ProviderDefinition } from '../provider/definition.ts';
import { placeholdersIn } from '../provider/placeholder-text.ts';
import { type Requirement, requirementIn, requirementName, requirementsOf } from '../provider/requirements.ts';
import { causeFacts } from './causes.ts';
import { type Diagnosis, diagnosis } from './diagnosis.ts';
import { diagnoseScopes } from './scopes.ts';

/** What we know of a client and of what it requested, beside the answer. Instants are epoch ms. */
export interface Asked {
  definition: ProviderDefinition;
  /** As the definition was before the values were filled in: which values stand in the token endpoint's address. */
  tokenEndpointTemplate: string;
  placeholders: Record<string, string>;
  grantType: string;
  method: string;
  /** Of the secret, certificate or key that was used. */
  secret: { provedAt: number | null; startsAt: number; endsAt: number | null; encodesDifferently: boolean } | null;
  redirectUri: string;
  redirectUrisThere: readonly string[] | null;
  scopes: readonly string[];
  scopesRegistered: readonly string[];
  /** The provider's `Date` less our clock, in ms; null: it named none. */
  clockAheadMs: number | null;
  /** How long the code was on its way, as far as we know, and how long such a code lives. */
  codeAgeMs: number | null;
  codeLifeMs: number | null;
  now: number;
}

const CLOCK_MATTERS_MS = 30_000;
const day = (instant: number): string => new Date(instant).toISOString().slice(0, 10);

/** What a rejected token request means. `seen`: what came back in one line, masked. */
export function diagnoseTokenRequest(asked: Asked, outcome: Exclude<TokenOutcome, { kind: 'tokens' }>, seen: string): Diagnosis {
  const { error, description, reason } = outcome.evidence;
  const words = `${error ?? ''} ${description ?? ''}`.toLowerCase();
  const approval = approvalSeen(asked.definition, outcome);
  if (approval === 'requested' || approval === 'info_requested') return diagnosis('approval_pending', { evidence: [seen] });
  if (approval === 'rejected') return diagnosis('approval_refused', { evidence: [seen] });
  if (error !== null && asked.definition.dialect.admin_consent?.rejected.includes(error)) return diagnosis('admin_consent_missing', { evidence: [seen] });
  if (error === 'access_denied') return diagnosis('consent_denied', { evidence: [seen] });
  if (error === 'expired_token') return diagnosis('code_expired', { evidence: [seen] });
  const required = reason === 'token_type_dpop' ? 'dpop' : error === null ? null : requirementIn(asked.definition, error, words);
  if (required && outcome.kind !== 'refused_grant')
    return diagnosis('requirement_unsupported', {
      evidence: [`Required: ${requirementName(required)}.`, seen],
      certain: reason !== null,
      also: reason === null ? ['request_odd'] : [],
    });
  switch (outcome.kind) {
    case 'client_refused':
      return error === 'unauthorized_client' ? diagnosis('client_not_allowed', { evidence: [seen] }) : diagnoseClient(asked, words, seen);
    case 'refused_grant':
      return withRequirements(diagnoseGrant(asked, words, seen), asked.definition, required);
    case 'set_up_wrong':
      if (error === 'invalid_scope') return diagnoseScopes(asked, seen);
      if (error === 'invalid_target') return diagnosis('resource_refused', { evidence: [seen, requestedTarget(asked.definition)] });
      if (error === 'unsupported_grant_type') return diagnosis('client_not_allowed', { evidence: [seen] });
      return diagnosis('request_odd', { evidence: [seen], certain: error !== null });
    case 'busy':
      return diagnosis('provider_busy', { evidence: [seen] });
    case 'unsent':
      return diagnosis('provider_unreachable', { evidence: [seen, reason && `${reasonInWords(reason)}.`] });
    case 'unclear':
      if (reason === 'unreadable') return diagnosis('answer_unreadable', { evidence: [seen] });
      if (reason === 'server_error')
        return diagnosis('provider_down', { evidence: [seen], remedy: 'Wait a little. A code is never sent twice: open the connection again.' });
      return diagnosis('answer_lost', { evidence: [seen, reason && `${reasonInWords(reason)}.`] });
    default:
      return outcome satisfies never;
  }
}

/**
 * A provider that requires what this version does not support may reject the grant in its place: what its own words or its metadata name is among
 * the other possible causes, so that nobody connects again and again.
 */
function withRequirements(found: Diagnosis, definition: ProviderDefinition, told: Requirement['what'] | null): Diagnosis {
  const named = told ?? requirementsOf(definition)[0]?.what ?? null;
  if (named === null) return found;
  const evidence = [...found.evidence, `The provider names ${requirementName(named)}.`];
  return { ...found, certain: false, evidence, also: [...found.also, causeFacts('requirement_unsupported').title] };
}

/** What was requested as the target of the token. */
const requestedTarget = ({ dialect }: Pick<ProviderDefinition, 'dialect'>): string | null => {
  const target = dialect.resource ?? dialect.token_parameters.audience;
  return target === undefined ? 'No resource and no audience was requested.' : `Requested: ${target}.`;
};

/** A client that could not show who it is: by which of the ways in which that happens. */
function diagnoseClient(asked: Asked, words: string, seen: string): Diagnosis {
  const { secret, definition, now } = asked;
  if (asked.method === 'private_key_jwt') {
    if (secret?.endsAt && secret.endsAt <= now) return diagnosis('certificate_ended', { evidence: [seen, `The certificate ended on ${day(secret.endsAt)}.`] });
    if (secret && secret.startsAt > now)
      return diagnosis('certificate_ended', { evidence: [seen, `The certificate is not valid before ${day(secret.startsAt)}.`] });
    if (isClockOff(asked)) return diagnosis('clock_wrong', { evidence: [clockSays(asked), seen] });
    return diagnosis('certificate_unknown', { evidence: [seen], certain: false, also: ['secret_wrong'] });
  }
  if (/certificate|private_key_jwt|assertion (is )?(needed|required)/.test(words))
    return diagnosis('certificate_needed', { evidence: [seen, `The client authenticates by ${asked.method}.`] });
  if (secret?.endsAt && secret.endsAt <= now)
    return diagnosis('secret_retired', { evidence: [seen, `By what was entered here it ended on ${day(secret.endsAt)}.`] });
  if (secret?.provedAt) return diagnosis('secret_retired', { evidence: [seen, `The provider took it on ${day(secret.provedAt)}.`] });
  if (secret?.encodesDifferently && asked.method === 'client_secret_basic')
    return diagnosis('basic_encoding', {
      evidence: [
        seen,
        `The id or secret holds characters that change when they are form-encoded (RFC 6749 \u00a72.3.1); they were sent ${definition.dialect.basic_encoding === 'raw' ? 'as they are' : 'encoded'}.`,
      ],
      certain: false,
      also: ['secret_wrong'],
    });
  const places = placeSays(definition, Object.fromEntries(placeholdersIn(asked.tokenEndpointTemplate).map((name) => [name, asked.placeholders[name] ?? ''])));
  if (places.length > 0)
    return diagnosis('client_elsewhere', {
      evidence: [seen, ...places, 'The provider never accepted a secret of this client.'],
      certain: false,
      also: ['secret_wrong'],
    });
  return diagnosis('secret_wrong', { evidence: [seen] });
}

/** At which region or tenant it was asked, and which others there are. */
export const placeSays = (definition: Pick<ProviderDefinition, 'placeholders'>, values: Record<string, string>): string[] =>
  definition.placeholders
    .filter((one) => values[one.name] !== undefined)
    .map((one) => {
      const others = one.choices.filter((choice) => choice.value !== values[one.name]).map((choice) => choice.value);
      return `It was asked at ${one.title} \u201c${values[one.name]}\u201d${others.length > 0 ? `; there is also ${others.join(', ')}` : ''}.`;
    });

const isClockOff = (asked: Asked): boolean => Math.abs(asked.clockAheadMs ?? 0) > CLOCK_MATTERS_MS;
const clockSays = (asked: Asked): string =>
  `The provider\u2019s clock is ${Math.round(Math.abs(asked.clockAheadMs ?? 0) / 1000)} s ${(asked.clockAheadMs ?? 0) > 0 ? 'ahead of' : 'behind'} ours.`;

/** `invalid_grant`: a code, an assertion, a device code or a refresh token that is not taken. */
function diagnoseGrant(asked: Asked, words: string, seen: string): Diagnosis {
  if (asked.grantType === 'refresh_token' || asked.grantType === 'imported') return diagnosis('grant_withdrawn', { evidence: [seen] });
  if (asked.grantType === 'jwt_bearer' || asked.grantType === 'client_credentials') {
    if (isClockOff(asked)) return diagnosis('clock_wrong', { evidence: [clockSays(asked), seen] });
    if (asked.secret?.endsAt && asked.secret.endsAt <= asked.now)
      return diagnosis('certificate_ended', { evidence: [seen, `It ended on ${day(asked.secret.endsAt)}.`] });
    if (asked.grantType === 'client_credentials') return diagnosis('client_not_allowed', { evidence: [seen], certain: false });
    return /certificate|key|signature/.test(words)
      ? diagnosis('certificate_unknown', { evidence: [seen] })
      : diagnosis('subject_refused', { evidence: [seen], certain: /subject|account|user/.test(words), also: ['certificate_unknown'] });
  }
  const there = asked.redirectUrisThere;
  if (/redirect/.test(words)) {
    const verdict = there === null || there.length === 0 ? null : compareRedirectUris(asked.redirectUri, nearest(asked.redirectUri, there));
    return diagnosis('redirect_uri_differs', { evidence: [seen, verdict?.kind === 'differs' && verdict.says] });
  }
  if (/\bused (before|already|up)|already (been )?(used|redeemed|exchanged)/.test(words) && !/too old|expired/.test(words))
    return diagnosis('code_used', { evidence: [seen] });
  const late = asked.codeAgeMs !== null && asked.codeLifeMs !== null && asked.codeAgeMs > asked.codeLifeMs;
  if (late || (/expired|too old|run out|timed? ?out/.test(words) && !/used/.test(words)))
    return diagnosis('code_expired', {
      evidence: [
        seen,
        late &&
          `It was exchanged ${Math.round((asked.codeAgeMs ?? 0) / 1000)} s after their page was opened; such a code lives ${Math.round((asked.codeLifeMs ?? 0) / 1000)} s.`,
      ],
    });
  return diagnosis('code_refused', { evidence: [seen], certain: false, also: ['code_expired', 'code_used', 'redirect_uri_differs'] });
}
