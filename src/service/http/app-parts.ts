import type { RequestHandler } from 'express';
import type { BodyDeadline } from '../body-deadline.ts';
import type { Consents } from '../consent/index.ts';
import type { Fence } from '../fence/index.ts';
import type { IdentitySignIn } from '../identity/index.ts';
import type { Log } from '../ports.ts';
import type { WhoCalls } from '../tokens/index.ts';
import type { SignInRequests } from '../tool-sign-ins/index.ts';
import type { Admission } from './api-router.ts';
import type { Handlers } from './handlers.ts';
import type { LiveEvents } from './live.ts';
import type { ServedMetrics } from './metrics.ts';
import type { Visits } from './person-routes.ts';
import type { Sessions } from './sessions.ts';

/** What the HTTP surface beside the fast lanes depends on. */
export interface AppParts extends Pick<Admission, 'operators' | 'store'> {
  publicUrl: string;
  version: string;
  /** Whether callers may authenticate with a certificate (RFC 8705). */
  takesCertificates: boolean;
  trustedProxies: number;
  bodies: BodyDeadline;
  log: Log;
  handlers: Handlers;
  sessions: Sessions;
  live: LiveEvents;
  /** Results of jobs: the latest of one, and that of one run. */
  data: { latest: RequestHandler; run: RequestHandler; backup: RequestHandler };
  fence: Pick<Fence, 'answer' | 'transfer'>;
  identity: Pick<IdentitySignIn, 'start' | 'finish' | 'signOut'>;
  consents: Consents;
  /** What is upcoming, for the private address of a calendar; null: there is none. */
  calendar: { text(token: string): Promise<string | null>; json(token: string): Promise<object | null> };
  /** What people see who have no login here. */
  visits: Visits;
  /** Claims about whoever consented, for the token of a tool; null: it is none. */
  userInfo(token: string): Promise<Record<string, string> | null>;
  signInRequests: SignInRequests;
  whoCalls: WhoCalls;
  /** A client's public keys (RFC 7517). */
  publicKeys(provider: string, client: string): Promise<{ keys: object[] }>;
  /** Null while all is well, else why not. */
  notReady(): string | null;
  /** Null: they are off. */
  metrics: ServedMetrics | null;
  consoleFolder: string;
}
