import { existsSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import type { ClientType, Reach } from '../core/provider/kinds.ts';

/** A secret of a client, until it ends or is withdrawn. */
export interface KeptSecret {
  /** A short number, as lists of secrets show it. */
  id: string;
  label: string;
  value: string;
  createdAt: number;
  endsAt: number | null;
}
type ApprovalState = 'not_requested' | 'requested' | 'info_requested' | 'approved' | 'rejected';
/** A client as its developer console knows it. */
export interface RegisteredClient {
  id: string;
  name: string;
  /** Where it was registered: it is unknown elsewhere. Empty where the provider has one place only. */
  realm: string;
  registeredAt: number;
  project: string;
  type: ClientType;
  secrets: KeptSecret[];
  /** The public parts of its certificates, as PEM. */
  certificates: string[];
  redirectUris: string[];
  /** Redirect URIs as they were edited and not yet saved; null: nothing is waiting. */
  unsavedUris: string[] | null;
  domains: string[];
  apis: string[];
  scopes: string[];
  reach: Reach;
  listed: string[];
  /** What people see on the consent page. */
  consentPage: Record<string, string>;
  serviceUser: { name: string; role: string } | null;
  approval: { state: ApprovalState; answers: Record<string, string>; says: string; changedAt: number };
}
interface Project {
  id: string;
  name: string;
  realm: string;
}
/** A grant code that the console printed. */
export interface PrintedCode {
  clientId: string;
  sub: string;
  scopes: string[];
  endsAt: number;
}
export interface GivenGrant {
  id: string;
  clientId: string;
  sub: string;
  scopes: string[];
  withdrawn: boolean;
  refreshes: number;
  givenAt: number;
  /** When it was renewed last. */
  usedAt?: number;
}
interface IssuedRefresh {
  grantId: string;
  /** When it was replaced by a new one; null: it is current. */
  replacedAt: number | null;
}
interface IssuedAccess {
  grantId: string;
  scopes: string[];
  expiresAt: number;
  /** It was issued for a signed assertion, not for a secret. */
  byKey?: boolean;
  /** The audience for which it was asked. */
  audience?: string;
}

/** All that a stand-in remembers. Plain data, so that it can be kept in a file between two starts of the demo. */
interface StandinState {
  clients: Record<string, RegisteredClient>;
  projects: Record<string, Project>;
  printedCodes: Record<string, PrintedCode>;
  grants: Record<string, GivenGrant>;
  refreshTokens: Record<string, IssuedRefresh>;
  accessTokens: Record<string, IssuedAccess>;
  /** Sessions at an API that wants the second step, and the access token with which each was opened. */
  sessions: Record<string, { accessToken: string; expiresAt: number }>;
  /** What each client used of each window of a quota. */
  used: Record<string, number>;
  /** Static keys, and the account to which each belongs. */
  apiKeys: Record<string, { sub: string; realm: string }>;
  /** Clients for which the organization has consented. */
  adminConsented: string[];
  signing: { kid: string; pem: string } | null;
}

export interface StandinStore {
  state: StandinState;
  /** Says that something changed; the file follows soon. */
  touch(): void;
  flush(): void;
}

const SAVE_AFTER_MS = 50;
const ACCESS_KEPT_MS = 3_600_000;
const USED_KEPT_MS = 2 * 86_400_000;

/** `file` null: nothing outlives the process. */
export function standinStore(file: string | null, now: () => number): StandinStore {
  const empty: StandinState = {
    clients: {},
    projects: {},
    printedCodes: {},
    grants: {},
    refreshTokens: {},
    accessTokens: {},
    sessions: {},
    used: {},
    apiKeys: {},
    adminConsented: [],
    signing: null,
  };
  const state = file && existsSync(file) ? { ...empty, ...(JSON.parse(readFileSync(file, 'utf8')) as StandinState) } : empty;
  let timer: NodeJS.Timeout | null = null;
  const flush = (): void => {
    if (timer) clearTimeout(timer);
    timer = null;
    if (!file) return;
    for (const [token, issued] of Object.entries(state.accessTokens)) if (issued.expiresAt < now() - ACCESS_KEPT_MS) delete state.accessTokens[token];
    for (const [token, issued] of Object.entries(state.refreshTokens))
      if (issued.replacedAt !== null && issued.replacedAt < now() - ACCESS_KEPT_MS) delete state.refreshTokens[token];
    for (const [token, session] of Object.entries(state.sessions)) if (session.expiresAt < now()) delete state.sessions[token];
    for (const key of Object.keys(state.used)) if (Number(key.split(' ')[2]) < now() - USED_KEPT_MS) delete state.used[key];
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
