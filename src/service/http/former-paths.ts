import type { RequestHandler } from 'express';

/** Addresses of 0.6 with their present ones; they keep answering in this version. */
const FORMER: readonly [former: RegExp, present: string][] = [
  [/^\/door\/authorize$/, '/oauth/authorize'],
  [/^\/api\/v1\/door\/([^/]+)(\/answer)?$/, '/api/v1/sign-in-requests/$1$2'],
  [/^\/api\/v1\/callers\/([^/]+)\/sheets$/, '/api/v1/callers/$1/setup-instructions'],
  [/^\/api\/v1\/clients\/([^/]+)\/([^/]+)\/notepad$/, '/api/v1/clients/$1/$2/pasted-notes'],
  [/^\/api\/v1\/clients\/([^/]+)\/([^/]+)\/secrets\/([^/]+)\/prove$/, '/api/v1/clients/$1/$2/secrets/$3/verify'],
  [/^\/api\/v1\/connections\/([^/]+)\/take-over$/, '/api/v1/connections/$1/import'],
  [/^\/api\/v1\/connections\/([^/]+)\/agreement$/, '/api/v1/connections/$1/admin-consent'],
];
/** Since when they are deprecated (RFC 9745 §2.1): 2026-11-28. */
const SINCE = `@${Date.UTC(2026, 10, 28) / 1000}`;

/** The present path of a former one; null: it is none. */
function presentPath(path: string): string | null {
  const found = FORMER.find(([former]) => former.test(path));
  return found ? path.replace(found[0], found[1]) : null;
}

/** Answers former addresses as the present ones would, and says what those are. */
export const formerPaths =
  (publicUrl: string): RequestHandler =>
  (request, response, next) => {
    const present = presentPath(request.path);
    if (present !== null) {
      response.setHeader('deprecation', SINCE);
      response.setHeader('link', `<${publicUrl}${present}>; rel="successor-version"`);
      request.url = present + request.url.slice(request.path.length);
      request.originalUrl = request.url;
    }
    next();
  };
