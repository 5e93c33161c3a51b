import type { ProviderDefinition } from '../provider/definition.ts';
import { Secret } from '../secret.ts';
import type { TokenOutcome } from './token-answer.ts';
import type { TokenRequest } from './token-request.ts';

export type SeenApproval = 'requested' | 'info_requested' | 'approved' | 'rejected';

/** The token request by which a provider tells whether a client is approved; null where its definition knows none. It spends nothing. */
export function approvalQuestion(definition: ProviderDefinition, unused: string): TokenRequest | null {
  const check = definition.dialect.approval_check;
  if (!check) return null;
  if (check.grant_type === 'client_credentials') return { grantType: 'client_credentials', scopes: [] };
  return { grantType: 'authorization_code', code: new Secret(unused), redirectUri: null, verifier: null };
}

/** How a change that the token endpoint shows is told. */
export const approvalChange = (from: string, to: SeenApproval): string =>
  `Approval: ${from.replaceAll('_', ' ')} became ${to.replaceAll('_', ' ')}, as the token endpoint shows.`;

/** What the answer shows of the approval; null: nothing, such as a provider that is down. */
export function approvalSeen(definition: ProviderDefinition, answer: TokenOutcome): SeenApproval | null {
  const check = definition.dialect.approval_check;
  if (!check) return null;
  if (answer.kind === 'tokens') return 'approved';
  const { error } = answer.evidence;
  if (error === null) return null;
  for (const one of ['rejected', 'info_requested', 'requested', 'approved'] as const) if (check[one].includes(error)) return one;
  return null;
}
