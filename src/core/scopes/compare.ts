import { distance } from 'fastest-levenshtein';

/** What is odd about one requested scope, and what to do. */
export interface ScopeRemark {
  scope: string;
  kind: 'not_in_catalogue' | 'misspelt' | 'delimiter';
  says: string;
  meant: string | null;
}

/** Looks at requested scopes before anything is sent: a stray comma, a near-misspelling, one that nobody lists. */
export function reviewScopes(requested: readonly string[], catalogue: readonly string[]): ScopeRemark[] {
  const known = new Set(catalogue);
  return requested.filter((scope) => !known.has(scope)).map((scope) => remark(scope, catalogue));
}

function remark(scope: string, catalogue: readonly string[]): ScopeRemark {
  const bare = scope.replace(/[,;]+/g, '');
  if (/[,;]/.test(scope))
    return {
      scope,
      kind: 'delimiter',
      says: `\u201c${scope}\u201d holds a comma or semicolon; scopes are separated by spaces here.`,
      meant: catalogue.includes(bare) ? bare : null,
    };
  const near = nearest(scope, catalogue);
  if (near) return { scope, kind: 'misspelt', says: `\u201c${scope}\u201d is not a scope of this provider. Did you mean \u201c${near}\u201d?`, meant: near };
  return { scope, kind: 'not_in_catalogue', says: `\u201c${scope}\u201d is not among the scopes that the definition lists.`, meant: null };
}

function nearest(scope: string, catalogue: readonly string[]): string | null {
  const ranked = catalogue.map((name) => ({ name, far: distance(scope.toLowerCase(), name.toLowerCase()) })).sort((a, b) => a.far - b.far)[0];
  return ranked && ranked.far <= Math.max(2, Math.floor(scope.length / 4)) ? ranked.name : null;
}

/** Requested against granted (RFC 6749 §3.3: the provider may grant less, or other, than asked). */
export interface ScopeDifference {
  granted: string[];
  missing: string[];
  unasked: string[];
}

export function compareScopes(requested: readonly string[], granted: readonly string[]): ScopeDifference {
  const [asked, given] = [new Set(requested), new Set(granted)];
  return {
    granted: [...given],
    missing: [...asked].filter((scope) => !given.has(scope)),
    unasked: [...given].filter((scope) => !asked.has(scope)),
  };
}
