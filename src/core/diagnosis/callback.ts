import type { CallbackOutcome } from '../oauth/callback.ts';
import { compareRedirectUris, nearest } from '../oauth/redirect-uri.ts';
import { plainText } from '../oauth/token-answer.ts';
import type { ProviderDefinition } from '../provider/definition.ts';
import { requirementIn, requirementName } from '../provider/requirements.ts';
import { parseUrl } from '../url.ts';
import type { Cause } from './causes.ts';
import { type Diagnosis, diagnosis } from './diagnosis.ts';
import { diagnoseScopes } from './scopes.ts';
import { placeSays } from './token-request.ts';

/** What we sent the browser away with. */
export interface SentAway {
  definition: ProviderDefinition;
  redirectUri: string;
  redirectUrisThere: readonly string[] | null;
  scopes: readonly string[];
  scopesRegistered: readonly string[];
  /** Values of placeholders, such as the region. */
  placeholders: Record<string, string>;
  approval: string;
  reach: string;
}

/** The provider sent the browser back without a code (RFC 6749 §4.1.2.1). */
export function diagnoseCallback(answer: Exclude<CallbackOutcome, { kind: 'code' }>, sent: SentAway): Diagnosis {
  if (answer.kind === 'odd') return diagnosis('answer_forged', { evidence: [answer.why] });
  const seen = [answer.error, plainText(answer.description)].filter(Boolean).join(': ');
  return (
    byError(answer.error, seen, sent) ??
    byWords(seen, sent) ??
    diagnosis('unknown', { evidence: [seen], title: 'The provider sent the person back with an error.' })
  );
}

function byError(error: string, seen: string, sent: SentAway): Diagnosis | null {
  if (sent.definition.dialect.admin_consent?.rejected.includes(error)) return diagnosis('admin_consent_missing', { evidence: [seen] });
  const required = error.startsWith('invalid_request') ? requirementIn(sent.definition, error, seen) : null;
  if (required) return diagnosis('requirement_unsupported', { evidence: [`Required: ${requirementName(required)}.`, seen] });
  switch (error) {
    case 'access_denied': {
      const other = byWords(seen, sent);
      return other && other.cause !== 'unknown' && other.cause !== 'consent_denied' ? other : diagnosis('consent_denied', { evidence: [seen] });
    }
    case 'invalid_scope':
      return diagnoseScopes(sent, seen);
    case 'invalid_target':
      return diagnosis('resource_refused', { evidence: [seen] });
    case 'unauthorized_client':
      return sent.approval === 'requested' || sent.approval === 'not_requested'
        ? diagnosis('approval_pending', { evidence: [seen] })
        : diagnosis('client_not_allowed', { evidence: [seen] });
    case 'temporarily_unavailable':
    case 'server_error':
      return diagnosis('provider_down', { evidence: [seen] });
    default:
      return null;
  }
}

/** Words by which many providers' own pages say why they stop; the definition's own come first. */
const USUAL_WORDS: readonly [RegExp, Cause][] = [
  [/redirect[_ -]?ur[il]|callback (url|address)|return (url|address)|reply (url|address)/i, 'redirect_uri_differs'],
  [/not (been )?approved|pending (review|approval)|awaiting (review|approval)|under review/i, 'approval_pending'],
  [
    /not (on|among|one of) (the|its|your) (list|test|allowed)|not listed|has not completed (the )?verification|test(er|ing) (users?|accounts?)/i,
    'account_not_listed',
  ],
  [
    /(personal|work|school|business|shared|guest) accounts? (is|are|can ?not|may not)|account type|kind of account|not available for this account/i,
    'account_kind_wrong',
  ],
  [/admin(istrator)?('s)? (approval|consent)|approval (is )?required|organi[sz]ation (must|has not|has to)/i, 'admin_consent_missing'],
  [/invalid[_ ]scope|unknown (scope|permission)/i, 'scope_misspelt'],
  [/unknown (client|app)|client[_ ]id|application (was )?not found|invalid[_ ]client/i, 'client_elsewhere'],
  [/access[_ ]denied|declined|refused by/i, 'consent_denied'],
  [/temporarily|maintenance|try again later|internal (server )?error|service unavailable/i, 'provider_down'],
];

function byWords(text: string, sent: SentAway): Diagnosis | null {
  const own = Object.entries(sent.definition.dialect.page_words).find(([words]) => text.toLowerCase().includes(words.toLowerCase()));
  const cause = own?.[1] ?? USUAL_WORDS.find(([words]) => words.test(text))?.[1];
  if (!cause) return null;
  const evidence: (string | false)[] = [text];
  if (cause === 'redirect_uri_differs') {
    const there = sent.redirectUrisThere ?? [];
    const verdict = there.length > 0 ? compareRedirectUris(sent.redirectUri, nearest(sent.redirectUri, there)) : null;
    evidence.push(`Ours is ${sent.redirectUri}.`, verdict?.kind === 'differs' && verdict.says);
  }
  if (cause === 'client_elsewhere')
    return diagnosis('client_elsewhere', {
      evidence: [...evidence, ...placeSays(sent.definition, sent.placeholders)],
      title: 'The provider does not know the client id at this address.',
      remedy: 'Compare the client id and the region or tenant with the page of the client at the provider. Then open the connection again.',
      certain: own !== undefined,
    });
  if (cause === 'scope_misspelt') return diagnoseScopes(sent, text);
  return diagnosis(cause, { evidence, certain: own !== undefined });
}

const MAX_TEXT = 2_000;

/**
 * Nothing came back, because the provider stopped on a page of its own: what someone pasted of that page, its words or its address, is
 * the evidence.
 */
export function diagnoseStopPage(pasted: string, sent: SentAway): Diagnosis {
  const text = pasted.trim().slice(0, MAX_TEXT);
  const url = /^https?:\/\/\S+$/i.test(text) ? parseUrl(text) : null;
  if (url) {
    const all = new URLSearchParams([...url.searchParams, ...new URLSearchParams(url.hash.slice(1))]);
    const error = all.get('error') ?? all.get('error_code') ?? all.get('code');
    const seen = plainText([error, all.get('error_description') ?? all.get('message'), `${url.origin}${url.pathname}`].filter(Boolean).join(': ')) ?? '';
    return (error === null ? null : byError(error, seen, sent)) ?? byWords(seen, sent) ?? unknownPage(seen);
  }
  const seen = (plainText(text.replace(/\s+/g, ' ')) ?? '').slice(0, 300);
  return byWords(seen, sent) ?? unknownPage(seen);
}

const unknownPage = (seen: string): Diagnosis =>
  diagnosis('unknown', {
    evidence: [seen],
    certain: false,
    also: ['redirect_uri_differs', 'client_elsewhere'],
    remedy: 'Compare the redirect URI and the client id registered at the provider with ours: these two are by far the most common.',
  });
