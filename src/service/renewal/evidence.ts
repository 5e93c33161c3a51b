import type { Evidence, FreshTokens } from '../../core/oauth/token-answer.ts';
import type { TokenLife } from '../../core/renewal/plan.ts';

/** A token's lifetime counts from the moment the request was sent. */
export function tokenLife(tokens: Pick<FreshTokens, 'lifeMs'>, assumedSeconds: number, sentAt: number): TokenLife {
  const issuedAt = Math.floor(sentAt);
  return { issuedAt, expiresAt: issuedAt + Math.floor(tokens.lifeMs ?? assumedSeconds * 1000) };
}

/** What was seen, in one line: status, error code and the provider's own words, masked. */
export function evidenceText(evidence: Evidence): string {
  const parts = [
    evidence.status === null ? 'no answer' : `HTTP ${evidence.status}`,
    evidence.error,
    evidence.description ? `\u201c${evidence.description}\u201d` : null,
    evidence.reason?.replaceAll('_', ' '),
  ];
  return parts.filter(Boolean).join(', ');
}
