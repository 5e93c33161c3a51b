import { readFileSync } from 'node:fs';
import { z } from 'zod';
import { defaultDataFolder } from '../api/data-folder.ts';
import { Fault } from '../core/fault.ts';
import { isLoopbackHost } from '../core/provider/web-address.ts';
import { DEFAULT_LANES } from '../core/renewal/lanes.ts';
import { DEFAULT_LIMITS, type RenewalLimits } from '../core/renewal/limits.ts';
import { Secret } from '../core/secret.ts';

/** Everything that can be set, from `RUSTY_KETTLE_…` environment variables, read once. docs/SETTINGS.md lists them. */
export interface Settings {
  dataFolder: string;
  /** Null: a private MariaDB in the data folder. */
  databaseUrl: Secret | null;
  /** HOST:PORT of a Galera cluster's nodes, in this replica's order; empty: the one server of the database URL. */
  databaseNodes: string[];
  /** Null: made once beside a private database, and kept in the data folder. */
  masterKey: Secret | null;
  host: string;
  port: number;
  publicUrl: string;
  /** Origins of the public URL's kin that the service may call on private addresses. */
  privateHosts: string[];
  trustedProxies: number;
  poolSize: number;
  logLevel: string;
  limits: RenewalLimits;
  /** Renewals at once: in this process, at one token endpoint, for one client. */
  concurrency: number;
  originConcurrency: number;
  clientConcurrency: number;
  /** For how long handouts go on without news from the database. */
  blindLimitMs: number;
  /** How often a provider that tells is asked whether a client is approved. */
  approvalCheckMs: number;
  /** Prove one renewal right after a consent, where a lost answer would cost nothing. */
  proveRenewal: boolean;
  /** How long a request's body may be on its way, of all but what is relayed. */
  bodyMs: number;
  /** How long the history is kept. */
  historyMs: number;
  /** The longest wait for an answer of an API, and for all of it, of what is relayed. */
  relayWaitMs: number;
  relayMostMs: number;
  /** The proxy through which calls leave; null: none. */
  proxy: { http: string | null; https: string | null; except: string } | null;
  /** Where this setting came from, for messages. */
  publicUrlIsDefault: boolean;
}

/** Below this, one slow poll would stop all handouts. */
const LEAST_BLIND_MS = 1_500;

const wholeNumber = (least: number, most: number) => z.coerce.number().int().min(least).max(most);

const Environment = z.object({
  RUSTY_KETTLE_DATA_FOLDER: z.string().min(1).optional(),
  RUSTY_KETTLE_DATABASE_URL: z
    .string()
    .regex(/^(mariadb|mysql):\/\//, { error: 'must start with mariadb://' })
    .optional(),
  RUSTY_KETTLE_DATABASE_NODES: z
    .string()
    .regex(/^[a-z0-9.-]+:\d+([\s,]+[a-z0-9.-]+:\d+)*$/i, { error: 'must be HOST:PORT, separated by commas' })
    .optional(),
  RUSTY_KETTLE_MASTER_KEY: z.string().optional(),
  RUSTY_KETTLE_MASTER_KEY_FILE: z.string().optional(),
  RUSTY_KETTLE_HOST: z.string().default('127.0.0.1'),
  RUSTY_KETTLE_PORT: wholeNumber(1, 65_535).default(7420),
  RUSTY_KETTLE_PUBLIC_URL: z.string().optional(),
  RUSTY_KETTLE_PRIVATE_HOSTS: z.string().default(''),
  RUSTY_KETTLE_TRUSTED_PROXIES: wholeNumber(0, 10).default(0),
  RUSTY_KETTLE_POOL_SIZE: wholeNumber(2, 200).default(16),
  RUSTY_KETTLE_LOG_LEVEL: z.enum(['debug', 'info', 'warn', 'error', 'silent']).default('info'),
  RUSTY_KETTLE_CONCURRENCY: wholeNumber(1, 500).default(64),
  RUSTY_KETTLE_ORIGIN_CONCURRENCY: wholeNumber(1, 500).default(DEFAULT_LANES.originMost),
  RUSTY_KETTLE_CLIENT_CONCURRENCY: wholeNumber(1, 500).default(DEFAULT_LANES.clientMost),
  RUSTY_KETTLE_BLIND_SECONDS: wholeNumber(0, 3_600).default(300),
  RUSTY_KETTLE_APPROVAL_CHECK_SECONDS: wholeNumber(2, 86_400).default(3_600),
  RUSTY_KETTLE_PROVE_RENEWAL: z.enum(['on', 'off']).default('on'),
  RUSTY_KETTLE_BODY_SECONDS: wholeNumber(1, 600).default(30),
  RUSTY_KETTLE_HISTORY_DAYS: wholeNumber(30, 3_650).default(400),
  RUSTY_KETTLE_RELAY_WAIT_SECONDS: wholeNumber(1, 600).default(60),
  RUSTY_KETTLE_RELAY_MOST_SECONDS: wholeNumber(1, 86_400).default(900),
  RUSTY_KETTLE_DEADLINE_MS: wholeNumber(200, 60_000).default(DEFAULT_LIMITS.deadlineMs),
  RUSTY_KETTLE_LEASE_MS: wholeNumber(1_000, 600_000).default(DEFAULT_LIMITS.leaseMs),
  RUSTY_KETTLE_MARGIN_MS: wholeNumber(100, 60_000).default(DEFAULT_LIMITS.marginMs),
  RUSTY_KETTLE_HEARTBEAT_MS: wholeNumber(50, 10_000).default(DEFAULT_LIMITS.heartbeatMs),
  RUSTY_KETTLE_SILENT_MS: wholeNumber(500, 120_000).default(DEFAULT_LIMITS.silentMs),
  RUSTY_KETTLE_HOLDER_WAIT_MS: wholeNumber(1_000, 3_600_000).default(DEFAULT_LIMITS.holderWaitMs),
  RUSTY_KETTLE_CONFIRM_MS: wholeNumber(100, 600_000).default(DEFAULT_LIMITS.confirmMs),
  RUSTY_KETTLE_POLL_MS: wholeNumber(20, 60_000).default(DEFAULT_LIMITS.pollMs),
  RUSTY_KETTLE_STOPPED_TRY_MS: wholeNumber(500, 21_600_000).default(DEFAULT_LIMITS.stoppedTryMs),
});

/** @throws {Fault} SETTING_INVALID naming each setting that is wrong. Unknown `RUSTY_KETTLE_…` names are refused: a misspelt one must not pass in silence. */
export function readSettings(environment: NodeJS.ProcessEnv): Settings {
  const known = new Set([...Object.keys(Environment.shape), 'RUSTY_KETTLE_URL', 'RUSTY_KETTLE_CALLER_ID', 'RUSTY_KETTLE_CALLER_KEY']);
  const unknown = Object.keys(environment).filter((name) => name.startsWith('RUSTY_KETTLE_') && !known.has(name));
  if (unknown.length > 0)
    throw new Fault('SETTING_INVALID', { detail: `There is no setting ${unknown.join(', ')}.`, remedy: 'Check the spelling against docs/SETTINGS.md.' });
  const read = Environment.safeParse(environment);
  if (!read.success) throw new Fault('SETTING_INVALID', { places: read.error.issues.map((issue) => ({ path: issue.path.join('.'), why: issue.message })) });
  const e = read.data;
  if (e.RUSTY_KETTLE_LEASE_MS <= e.RUSTY_KETTLE_DEADLINE_MS + e.RUSTY_KETTLE_MARGIN_MS)
    throw new Fault('SETTING_INVALID', { detail: 'RUSTY_KETTLE_LEASE_MS must be longer than RUSTY_KETTLE_DEADLINE_MS and RUSTY_KETTLE_MARGIN_MS together.' });
  const key = e.RUSTY_KETTLE_MASTER_KEY ?? (e.RUSTY_KETTLE_MASTER_KEY_FILE ? readFile(e.RUSTY_KETTLE_MASTER_KEY_FILE) : undefined);
  return {
    dataFolder: e.RUSTY_KETTLE_DATA_FOLDER ?? defaultDataFolder(environment),
    databaseUrl: e.RUSTY_KETTLE_DATABASE_URL ? new Secret(e.RUSTY_KETTLE_DATABASE_URL) : null,
    databaseNodes: e.RUSTY_KETTLE_DATABASE_NODES?.split(/[\s,]+/) ?? [],
    masterKey: key ? new Secret(key.trim()) : null,
    host: e.RUSTY_KETTLE_HOST,
    port: e.RUSTY_KETTLE_PORT,
    publicUrl: checkPublicUrl(e.RUSTY_KETTLE_PUBLIC_URL ?? `http://127.0.0.1:${e.RUSTY_KETTLE_PORT}`),
    publicUrlIsDefault: e.RUSTY_KETTLE_PUBLIC_URL === undefined,
    privateHosts: e.RUSTY_KETTLE_PRIVATE_HOSTS.split(/[\s,]+/).filter(Boolean),
    trustedProxies: e.RUSTY_KETTLE_TRUSTED_PROXIES,
    poolSize: e.RUSTY_KETTLE_POOL_SIZE,
    logLevel: e.RUSTY_KETTLE_LOG_LEVEL,
    concurrency: e.RUSTY_KETTLE_CONCURRENCY,
    originConcurrency: e.RUSTY_KETTLE_ORIGIN_CONCURRENCY,
    clientConcurrency: e.RUSTY_KETTLE_CLIENT_CONCURRENCY,
    blindLimitMs: Math.max(e.RUSTY_KETTLE_BLIND_SECONDS * 1000, LEAST_BLIND_MS),
    approvalCheckMs: e.RUSTY_KETTLE_APPROVAL_CHECK_SECONDS * 1000,
    bodyMs: e.RUSTY_KETTLE_BODY_SECONDS * 1000,
    historyMs: e.RUSTY_KETTLE_HISTORY_DAYS * 86_400_000,
    relayWaitMs: e.RUSTY_KETTLE_RELAY_WAIT_SECONDS * 1000,
    relayMostMs: e.RUSTY_KETTLE_RELAY_MOST_SECONDS * 1000,
    proxy: readProxy(environment),
    proveRenewal: e.RUSTY_KETTLE_PROVE_RENEWAL === 'on',
    limits: {
      ...DEFAULT_LIMITS,
      deadlineMs: e.RUSTY_KETTLE_DEADLINE_MS,
      leaseMs: e.RUSTY_KETTLE_LEASE_MS,
      marginMs: e.RUSTY_KETTLE_MARGIN_MS,
      heartbeatMs: e.RUSTY_KETTLE_HEARTBEAT_MS,
      silentMs: e.RUSTY_KETTLE_SILENT_MS,
      holderWaitMs: e.RUSTY_KETTLE_HOLDER_WAIT_MS,
      confirmMs: e.RUSTY_KETTLE_CONFIRM_MS,
      pollMs: e.RUSTY_KETTLE_POLL_MS,
      stoppedTryMs: e.RUSTY_KETTLE_STOPPED_TRY_MS,
    },
  };
}

function readFile(path: string): string {
  try {
    return readFileSync(path, 'utf8');
  } catch {
    throw new Fault('SETTING_INVALID', { detail: `RUSTY_KETTLE_MASTER_KEY_FILE names ${path}, which cannot be read.` });
  }
}

/** The public URL is an origin, without a path; https, or loopback. It decides the cookies' `Secure`. */
function checkPublicUrl(text: string): string {
  const url = URL.canParse(text) ? new URL(text) : null;
  const wrong = (detail: string) =>
    new Fault('SETTING_INVALID', { detail: `RUSTY_KETTLE_PUBLIC_URL ${detail}`, remedy: 'Give an origin such as https://tokens.example.test.' });
  if (!url || url.username || url.search || url.hash || url.pathname !== '/') throw wrong('must be an origin: scheme, host and port only.');
  if (url.protocol !== 'https:' && !(url.protocol === 'http:' && isLoopbackHost(url.hostname))) throw wrong('must be https, unless it is on loopback.');
  return url.origin;
}

/** `HTTPS_PROXY`, `HTTP_PROXY` and `NO_PROXY`, in either case, as other programs read them. @throws {Fault} SETTING_INVALID */
function readProxy(environment: NodeJS.ProcessEnv): Settings['proxy'] {
  const of = (name: string) => environment[name.toLowerCase()] || environment[name] || null;
  const [http, https] = [of('HTTP_PROXY'), of('HTTPS_PROXY')];
  for (const one of [http, https])
    if (one !== null && !/^https?:\/\//.test(one))
      throw new Fault('SETTING_INVALID', { detail: 'HTTP_PROXY and HTTPS_PROXY are addresses such as http://proxy.example:3128.' });
  return http === null && https === null ? null : { http, https, except: of('NO_PROXY') ?? '' };
}
