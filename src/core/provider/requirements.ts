import type { ProviderDefinition } from './definition.ts';

/** Something a provider may require that this version does not support. */
export interface Requirement {
  what: 'pushed_requests' | 'signed_requests' | 'mutual_tls' | 'dpop';
  /** False: the metadata offers it, and does not say whether it is required (RFC 9449 §5.1). */
  certain: boolean;
  says: string;
}

const NAMES: Record<Requirement['what'], string> = {
  pushed_requests: 'pushed authorization requests (PAR, RFC 9126)',
  signed_requests: 'signed authorization requests (RFC 9101)',
  mutual_tls: 'mutual TLS (RFC 8705)',
  dpop: 'sender-constrained tokens (DPoP, RFC 9449)',
};
export const requirementName = (what: Requirement['what']): string => NAMES[what];

const TLS_METHODS = ['tls_client_auth', 'self_signed_tls_client_auth'];

/**
 * What a provider requires, or may require, that failed here: said when it is drafted and before a consent.
 * @param methods every client authentication method that the metadata lists, ours or not
 */
export function requirementsOf({ server }: Pick<ProviderDefinition, 'server'>, methods: readonly string[] = []): Requirement[] {
  const found: Requirement[] = [];
  const required = (what: Requirement['what']) =>
    found.push({ what, certain: true, says: `The provider requires ${NAMES[what]}, which this version does not support. Requests will fail.` });
  if (server.require_pushed_authorization_requests) required('pushed_requests');
  else if (server.pushed_authorization_request_endpoint !== undefined) found.push(offered('pushed_requests'));
  if (server.require_signed_request_object) required('signed_requests');
  if (methods.length > 0 && methods.every((method) => TLS_METHODS.includes(method))) required('mutual_tls');
  else if (server.tls_client_certificate_bound_access_tokens) found.push(offered('mutual_tls'));
  if (server.dpop_signing_alg_values_supported?.length) found.push(offered('dpop'));
  return found;
}

const offered = (what: Requirement['what']): Requirement => ({
  what,
  certain: false,
  says: `The provider offers ${NAMES[what]}, which this version does not support. If it is required for this client, requests will fail.`,
});

const SIGNS: readonly [RegExp, Requirement['what']][] = [
  [/\bdpop\b|use_dpop_nonce|invalid_dpop_proof/i, 'dpop'],
  [/\bpushed\b|request_uri/i, 'pushed_requests'],
  [/request object|invalid_request_object|signed request/i, 'signed_requests'],
  [/mutual[- ]tls|\bmtls\b|tls client (certificate|auth)/i, 'mutual_tls'],
];

/** Which of them a provider's own error speaks of; else one that its metadata requires for certain. Null: none. */
export function requirementIn(definition: Pick<ProviderDefinition, 'server'>, error: string | null, words: string): Requirement['what'] | null {
  const told = SIGNS.find(([sign]) => sign.test(`${error ?? ''} ${words}`))?.[1];
  if (told) return told;
  const [certain] = requirementsOf(definition).filter((one) => one.certain);
  return certain && (error === 'invalid_request' || error === 'invalid_request_object') ? certain.what : null;
}
