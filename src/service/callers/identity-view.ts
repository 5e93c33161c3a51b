import type { Identity } from '../../api/callers.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { IdentityRow } from '../store/caller-identities.ts';

export const identityView = ({ id, kind, label, rule, createdBy, createdAt, lastUsedAt }: IdentityRow): Identity => ({
  ...{ id, kind, label, says: inWords(kind, rule), created_by: createdBy, created_at: iso(createdAt), last_used_at: isoOrNull(lastUsedAt) },
});

export function inWords(kind: IdentityRow['kind'], rule: IdentityRow['rule']): string {
  if (kind === 'key')
    return rule.jwks_url === null
      ? `assertions signed with one of ${rule.jwks?.keys.length ?? 0} registered keys`
      : `assertions signed with a key of ${rule.jwks_url}`;
  if (kind === 'certificate') return rule.thumbprint === null ? `a certificate of ${rule.subject}` : `the certificate ${rule.thumbprint.slice(0, 16)}\u2026`;
  const claims = Object.entries(rule.claims).map(([name, value]) => `${name} ${value}`);
  return `tokens of ${rule.issuer} with ${claims.join(', ')}`;
}
