import { at } from '../json.ts';
import type { WireOutcome, WireRequest } from '../oauth/wire.ts';
import { reasonInWords } from '../oauth/wire.ts';

/** What came of asking an endpoint without any secret. */
export interface EndpointVerdict {
  endpoint: 'authorization_endpoint' | 'token_endpoint';
  address: string;
  good: boolean;
  says: string;
}

const DEADLINE_MS = 10_000;
const LIMIT_BYTES = 16 * 1024;

/** A GET without parameters, and an empty POST: neither can change anything at the provider. */
export const endpointRequests = {
  authorization_endpoint: (url: string): WireRequest => ({
    method: 'GET',
    url,
    headers: { accept: 'text/html' },
    deadlineMs: DEADLINE_MS,
    limitBytes: LIMIT_BYTES,
  }),
  token_endpoint: (url: string): WireRequest => ({
    method: 'POST',
    url,
    headers: { accept: 'application/json', 'content-type': 'application/x-www-form-urlencoded' },
    body: '',
    deadlineMs: DEADLINE_MS,
    limitBytes: LIMIT_BYTES,
  }),
};

/** An OAuth error is the good answer of a token endpoint; of an authorization endpoint, any page but "not found". */
export function judgeEndpoint(endpoint: EndpointVerdict['endpoint'], address: string, outcome: WireOutcome): EndpointVerdict {
  const verdict = (good: boolean, says: string): EndpointVerdict => ({ endpoint, address, good, says });
  if (outcome.kind !== 'answer') return verdict(false, `It does not answer: ${reasonInWords(outcome.reason)}.`);
  const { status } = outcome;
  if (status === 404 || status === 410) return verdict(false, `There is nothing at this address (${status}).`);
  if (status >= 500) return verdict(false, `It answers with an error of its own (${status}).`);
  if (endpoint === 'authorization_endpoint') {
    if (status === 405) return verdict(false, 'It does not take GET: this may be the token endpoint.');
    if (status >= 400)
      return verdict(false, `Not verified: it answers ${status} to a request without parameters. Many providers do; compare the address with their pages.`);
    return verdict(true, `It answers (${status}).`);
  }
  if (status === 405) return verdict(false, 'It does not take POST: this may be the authorization endpoint.');
  if (status >= 300 && status < 400) return verdict(false, `It redirects (${status}); a token endpoint is called at its final address.`);
  let error: unknown;
  try {
    error = at(JSON.parse(outcome.body), '/error');
  } catch {
    return verdict(false, `It answers ${status}, and not as a token endpoint does: this is no JSON.`);
  }
  if (typeof error === 'string') return verdict(true, `It answers as a token endpoint does (${status}, ${error.slice(0, 60)}).`);
  return verdict(status >= 400, `It answers ${status} with JSON, but without an OAuth error; see whether the dialect names where errors stand.`);
}
