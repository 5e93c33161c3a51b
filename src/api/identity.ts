import { z } from 'zod';
import { GROUP_ROLES } from '../core/sign-in/oidc.ts';
import { Instant, Label } from './common.ts';
import { Done, type Operation } from './operation.ts';

const Rule = z.strictObject({
  group: z.string().trim().min(1).max(300).describe('As the provider names it in the token'),
  role: z.enum(GROUP_ROLES),
  labels: z.array(Label).max(50).default([]).describe('Limits the account to connections with one of these; none: no limit'),
});
export const SetIdentityProvider = z.strictObject({
  title: z.string().trim().min(1).max(60).describe('On the sign-in page'),
  issuer: z.url({ protocol: /^https?$/ }).max(500),
  client_id: z.string().trim().min(1).max(300),
  client_secret: z.string().min(1).max(2_000).optional().describe('Write-only; left out: as it is, or none'),
  scopes: z.array(z.string().min(1).max(100)).max(20).default(['profile', 'email']).describe('Besides openid'),
  groups_claim: z.string().trim().min(1).max(100).default('groups'),
  rules: z.array(Rule).min(1, { error: 'Name at least one group: else nobody could sign in.' }).max(500),
});
export const IdentityProviderShown = z.object({
  provider: z
    .object({
      title: z.string(),
      issuer: z.string(),
      client_id: z.string(),
      has_secret: z.boolean(),
      scopes: z.array(z.string()),
      groups_claim: z.string(),
      rules: z.array(Rule),
      changed_by: z.string(),
      changed_at: Instant,
    })
    .nullable(),
  redirect_uri: z.string().describe('To register at the provider'),
  logout_uri: z.string().describe('For back-channel sign-out'),
  warnings: z.array(z.string()),
});
export type IdentityProviderShown = z.output<typeof IdentityProviderShown>;
const SignInOffers = z.object({ identity_provider: z.object({ title: z.string() }).nullable() });

export const identityOperations = {
  signInOffers: { method: 'GET', path: '/api/v1/session/offers', access: 'anyone', says: 'List the ways to sign in', answer: SignInOffers },
  showIdentityProvider: {
    method: 'GET',
    path: '/api/v1/identity-provider',
    access: 'operator',
    says: 'Show the OpenID Connect provider at which operators sign in',
    answer: IdentityProviderShown,
  },
  setIdentityProvider: {
    method: 'POST',
    path: '/api/v1/identity-provider',
    access: 'operator',
    says: 'Let operators sign in at an OpenID Connect provider; its metadata is read now',
    body: SetIdentityProvider,
    answer: IdentityProviderShown,
  },
  removeIdentityProvider: {
    method: 'DELETE',
    path: '/api/v1/identity-provider',
    access: 'operator',
    says: 'End sign-in through the identity provider; accounts that came from it can no longer sign in',
    answer: Done,
  },
} as const satisfies Record<string, Operation>;
