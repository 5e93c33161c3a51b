import { existsSync, readFileSync, renameSync, writeFileSync } from 'node:fs';

export interface RegisteredClient {
  id: string;
  secret: string;
  /** Further secrets that are taken as well, until they are withdrawn. */
  moreSecrets?: string[];
  /** The public part of its certificate, as PEM. */
  certificate?: string;
  name: string;
  redirectUris: string[];
  registeredAt: number;
  /** Where it was registered: it is unknown elsewhere. Empty where the provider has one place only. */
  realm: string;
}
export interface GivenGrant {
  id: string;
  clientId: string;
  sub: string;
  scopes: string[];
  withdrawn: boolean;
  refreshes: number;
}
export interface IssuedRefresh {
  grantId: string;
  /** When it was replaced by a newer one; null: it is current. */
  replacedAt: number | null;
}
export interface IssuedAccess {
  grantId: string;
  scopes: string[];
  expiresAt: number;
  /** It was issued for a signed assertion, not for a secret. */
  byKey?: boolean;
}

/** All that a stand-in remembers. Plain data, so that it can be kept in a file between two starts of the demo. */
export interface StandinState {
  clients: Record<string, RegisteredClient>;
  grants: Record<string, GivenGrant>;
  refreshTokens: Record<string, IssuedRefresh>;
  accessTokens: Record<string, IssuedAccess>;
}

export interface StandinStore {
  state: StandinState;
  /** Says that something changed; the file follows soon. */
  touch(): void;
  flush(): void;
}

const SAVE_AFTER_MS = 50;
const ACCESS_KEPT_MS = 3_600_000;

/** `file` null: nothing outlives the process. */
export function standinStore(file: string | null, now: () => number): StandinStore {
  const empty: StandinState = { clients: {}, grants: {}, refreshTokens: {}, accessTokens: {} };
  const state = file && existsSync(file) ? (JSON.parse(readFileSync(file, 'utf8')) as StandinState) : empty;
  let timer: NodeJS.Timeout | null = null;
  const flush = (): void => {
    if (timer) clearTimeout(timer);
    timer = null;
    if (!file) return;
    for (const [token, issued] of Object.entries(state.accessTokens)) if (issued.expiresAt < now() - ACCESS_KEPT_MS) delete state.accessTokens[token];
    for (const [token, issued] of Object.entries(state.refreshTokens))
      if (issued.replacedAt !== null && issued.replacedAt < now() - ACCESS_KEPT_MS) delete state.refreshTokens[token];
    writeFileSync(`${file}.new`, JSON.stringify(state), { mode: 0o600 });
    renameSync(`${file}.new`, file);
  };
  return {
    state,
    flush,
    touch: () => {
      timer ??= file ? setTimeout(flush, SAVE_AFTER_MS) : null;
    },
  };
}
