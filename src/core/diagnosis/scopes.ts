import type { ProviderDefinition } from '../provider/definition.ts';
import { reviewScopes } from '../scopes/compare.ts';
import { type Diagnosis, diagnosis } from './diagnosis.ts';

interface ScopesAsked {
  definition: Pick<ProviderDefinition, 'scopes' | 'dialect'>;
  scopes: readonly string[];
  scopesRegistered: readonly string[];
}

/** `invalid_scope`: by the delimiter, by a misspelling, or because it is not registered for the client. */
export function diagnoseScopes({ definition, scopes, scopesRegistered }: ScopesAsked, seen: string): Diagnosis {
  const catalogue = definition.scopes.map((scope) => scope.name);
  const remarks = reviewScopes(scopes, catalogue);
  const delimiter = remarks.find((remark) => remark.kind === 'delimiter');
  if (delimiter) return diagnosis('scope_separator', { evidence: [seen, delimiter.says] });
  const misspelt = remarks.find((remark) => remark.kind === 'misspelt');
  if (misspelt)
    return diagnosis('scope_misspelt', {
      evidence: [seen, misspelt.says],
      remedy: `${misspelt.says} Change the scopes of the connection, then open it again.`,
    });
  // The provider read several as one: it quotes them as they were joined.
  const joined = scopes.length > 1 && seen.includes(scopes.slice(0, 2).join(definition.dialect.scope_separator));
  if (joined)
    return diagnosis('scope_separator', {
      evidence: [seen, `They were sent with \u201c${definition.dialect.scope_separator}\u201d between them, and read as one.`],
    });
  const unregistered = scopesRegistered.length === 0 ? [] : scopes.filter((scope) => !scopesRegistered.includes(scope));
  if (unregistered.length > 0)
    return diagnosis('scope_unregistered', { evidence: [seen, `Not among those registered for the client: ${unregistered.join(', ')}.`] });
  const named = catalogue.filter((scope) => seen.includes(scope));
  if (remarks.length > 0 && named.length === 0)
    return diagnosis('scope_misspelt', { evidence: [seen, ...remarks.map((remark) => remark.says)], certain: false, also: ['scope_unregistered'] });
  return diagnosis('scope_unregistered', {
    evidence: [seen, named.length > 0 && `The answer names ${named.join(', ')}.`],
    certain: named.length > 0,
    also: ['scope_separator', 'scope_misspelt'],
  });
}
