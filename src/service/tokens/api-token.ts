import { issuanceFloorMs } from '../../core/renewal/plan.ts';
import type { Secret } from '../../core/secret.ts';
import type { CachedToken } from '../renewal/index.ts';
import type { ApiSessions } from './api-sessions.ts';
import type { Issuance } from './issuance.ts';
import type { SetUp } from './set-up.ts';

/** What a call to the API carries: an access token, or the session's that was opened with it. */
export interface ApiToken {
  access: Secret;
  issuedAt: number;
  expiresAt: number;
  /** Where the session is good; null: the API's base URL. */
  baseUrl: string | null;
  /** Of the session where there is one, else of the access token: what a call that was rejected names. */
  version: number;
  /** From when on a rejection brings a new one, epoch ms: nobody can have them made without end, on all replicas together. */
  replaceableAt: number;
}

/** A session costs the provider little, and is gone whenever it restarts. */
const SESSION_AGE_MS = 1_000;

export interface ApiTokens {
  /**
   * The token for calls to the API that has the session step, or to any API where there is none. `newerThan`: the version that was
   * rejected. @throws {Fault} as a token issuance and an opened session do
   */
  get(grantId: string, setUp: Pick<SetUp, 'definition' | 'session'>, need?: { minimumLifeMs?: number; newerThan?: number }): Promise<ApiToken>;
  /** The same from memory alone, where nothing has to be looked up; null: ask for it. */
  ready(grantId: string, setUp: Pick<SetUp, 'definition' | 'session'>): ApiToken | null;
}

export function apiTokens(deps: { issuance: Issuance; sessions: ApiSessions }): ApiTokens {
  const { issuance, sessions } = deps;
  return {
    ready(grantId, setUp) {
      if (setUp.session || setUp.definition.dialect.renewal_ends_access_token) return null;
      const token = issuance.ready(grantId);
      return token && plain(token);
    },
    async get(grantId, setUp, need) {
      if (setUp.session) {
        const session = await sessions.open(grantId, setUp, need);
        return { ...session, replaceableAt: session.issuedAt + SESSION_AGE_MS };
      }
      return plain(await issuance(grantId, setUp.definition.dialect.renewal_ends_access_token ? { ...need, endsByRenewal: true } : need));
    },
  };
}

const plain = ({ access, issuedAt, expiresAt, generation }: CachedToken): ApiToken => ({
  access,
  issuedAt,
  expiresAt,
  baseUrl: null,
  version: generation,
  replaceableAt: issuedAt + issuanceFloorMs({ issuedAt, expiresAt }),
});
