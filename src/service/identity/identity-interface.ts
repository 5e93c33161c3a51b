import type { z } from 'zod';
import type { IdentityProviderShown, SetIdentityProvider } from '../../api/identity.ts';
import type { SignedInOperator } from '../operation-call.ts';
import type { From, NewSession } from '../operators/index.ts';

/** Operators sign in at the company's own OpenID Connect provider; its groups decide their roles. */
export interface IdentitySignIn {
  offers(): Promise<{ identity_provider: { title: string } | null }>;
  show(): Promise<IdentityProviderShown>;
  set(input: z.output<typeof SetIdentityProvider>, by: SignedInOperator): Promise<IdentityProviderShown>;
  remove(by: SignedInOperator): Promise<{ done: true }>;
  /** Where the browser goes, and what it keeps meanwhile. @throws {Fault} NOT_FOUND, PROVIDER_UNREACHABLE */
  start(): Promise<{ location: string; cookie: string }>;
  /** @throws {Fault} SIGN_IN_REFUSED with the reason */
  finish(query: Record<string, unknown>, cookie: string | undefined, from: From): Promise<NewSession>;
  /** Back-channel sign-out. @throws {Fault} SIGN_IN_REFUSED for a token that counts for nothing */
  signOut(token: unknown): Promise<void>;
}
