import { readFileSync } from 'node:fs';
import { availableParallelism } from 'node:os';
import type { z } from 'zod';
import { defaultDataFolder } from '../api/data-folder.ts';
import type { LogLevel } from '../api/log-levels.ts';
import { Fault } from '../core/fault.ts';
import { isLoopbackHost } from '../core/provider/web-address.ts';
import { DEFAULT_LIMITS, type RenewalLimits } from '../core/renewal/limits.ts';
import { Secret } from '../core/secret.ts';
import { SettingsTable } from './settings-table.ts';

/** Everything that can be set, from `RUSTY_KETTLE_…` environment variables, read once. */
export interface Settings {
  dataFolder: string;
  /** Null: a private MariaDB in the data folder. */
  databaseUrl: Secret | null;
  /** HOST:PORT of a Galera cluster's nodes, in this replica's order; empty: the one server of the database URL. */
  databaseNodes: string[];
  /** Null: made once beside a private database, and kept in the data folder. */
  masterKey: Secret | null;
  /** The program that prints it; null: none. */
  masterKeyCommand: string | null;
  /** Files with shares of it. */
  masterKeyShares: string[];
  /** The one before it, while it is being changed. */
  formerMasterKey: Secret | null;
  host: string;
  port: number;
  /** Processes that serve the port together. */
  processes: number;
  /** Of them, the one that writes one-time links. */
  isFirstProcess: boolean;
  publicUrl: string;
  /** Origins of the public URL's kin that the service may call on private addresses. */
  privateHosts: string[];
  trustedProxies: number;
  /** Null: the service answers HTTP, and a proxy speaks TLS. */
  tls: { certificateFile: string; keyFile: string; clientCertificates: boolean; clientAuthorityFile: string | null } | null;
  /** The header, in lower case, in which the proxy passes a client's certificate; null: none does. */
  certificateHeader: string | null;
  poolSize: number;
  logLevel: LogLevel;
  limits: RenewalLimits;
  /** Renewals at once: in this process, at one token endpoint, for one client. */
  concurrency: number;
  originConcurrency: number;
  clientConcurrency: number;
  /** For how long issued tokens go on without news from the database. */
  blindLimitMs: number;
  /** How often a provider that tells is asked whether a client is approved. */
  approvalCheckMs: number;
  /** Verify one renewal right after a consent, where a lost answer would cost nothing. */
  verifyRenewal: boolean;
  /** How long a request's body may be on its way, of all but what is relayed. */
  bodyMs: number;
  /** How long the history is kept. */
  historyMs: number;
  /** Newest answers in the data folder. */
  answers: { keptMs: number; bytesMost: number };
  /** Below it jobs write files; null: they write none. */
  outputFolder: string | null;
  /** How long a degraded state lasts before it becomes a notice, and is over before it counts as fixed. */
  noticeSettleMs: number;
  /** Whoever has it may read /metrics; null: nobody. */
  metricsToken: Secret | null;
  /** Where spans are sent by OTLP; null: nothing is traced. */
  tracesUrl: string | null;
  /** The file into which entries of the activity log are copied; null: none. */
  activityFile: string | null;
  /** The folder of a bundle that the installation must be like; null: none is watched. */
  bundleFolder: string | null;
  /** Where backups are written; null: `backups` in the data folder. */
  backupFolder: string | null;
  /** The operator for whom a one-time link is written at the start; null: nobody. */
  rescue: string | null;
  /** The folder whose programs notices may start; null: none. */
  scriptsFolder: string | null;
  /** The mail server, and from whom mail comes; null: no mail is sent. */
  mail: { server: Secret; from: string } | null;
  /** The longest wait for an answer of an API, and for all of it, of what is relayed. */
  relayWaitMs: number;
  relayMostMs: number;
  /** The proxy through which calls leave; null: none. */
  proxy: { http: string | null; https: string | null; except: string } | null;
  /** Where this setting came from, for messages. */
  publicUrlIsDefault: boolean;
}

/** Of its 400, some are for starts and for whoever looks. */
const MAX_PRIVATE_CONNECTIONS = 380;
/** Below this, one slow poll would stop all issued tokens. */
const LEAST_BLIND_MS = 1_500;

/** @throws {Fault} SETTING_INVALID naming each setting that is wrong. Unknown `RUSTY_KETTLE_…` names are rejected: a misspelt one must not pass in silence. */
export function readSettings(environment: NodeJS.ProcessEnv): Settings {
  const known = new Set([...Object.keys(SettingsTable.shape), 'RUSTY_KETTLE_URL', 'RUSTY_KETTLE_CALLER_ID', 'RUSTY_KETTLE_CALLER_KEY']);
  const given = environment;
  const unknown = Object.keys(given).filter((name) => name.startsWith('RUSTY_KETTLE_') && !known.has(name));
  if (unknown.length > 0)
    throw new Fault('SETTING_INVALID', { detail: `There is no setting ${unknown.join(', ')}.`, remedy: 'Check the spelling against docs/SETTINGS.md.' });
  const read = SettingsTable.safeParse(given);
  if (!read.success) throw new Fault('SETTING_INVALID', { places: read.error.issues.map((issue) => ({ path: issue.path.join('.'), why: issue.message })) });
  const e = read.data;
  if (e.RUSTY_KETTLE_LEASE_MS <= e.RUSTY_KETTLE_DEADLINE_MS + e.RUSTY_KETTLE_MARGIN_MS)
    throw new Fault('SETTING_INVALID', { detail: 'RUSTY_KETTLE_LEASE_MS must be longer than RUSTY_KETTLE_DEADLINE_MS and RUSTY_KETTLE_MARGIN_MS together.' });
  if (e.RUSTY_KETTLE_CLIENT_CERTIFICATE_HEADER !== undefined && e.RUSTY_KETTLE_TRUSTED_PROXIES === 0)
    throw new Fault('SETTING_INVALID', {
      detail: 'RUSTY_KETTLE_CLIENT_CERTIFICATE_HEADER needs RUSTY_KETTLE_TRUSTED_PROXIES: without a proxy, anyone could send the header.',
    });
  const processes = e.RUSTY_KETTLE_PROCESSES === 'cores' ? availableParallelism() : e.RUSTY_KETTLE_PROCESSES;
  if (e.RUSTY_KETTLE_DATABASE_URL === undefined && processes * e.RUSTY_KETTLE_POOL_SIZE > MAX_PRIVATE_CONNECTIONS)
    throw new Fault('SETTING_INVALID', {
      detail: `${processes} processes with ${e.RUSTY_KETTLE_POOL_SIZE} database connections each are more than a private database takes (${MAX_PRIVATE_CONNECTIONS}).`,
      remedy: 'Set a smaller RUSTY_KETTLE_POOL_SIZE, fewer RUSTY_KETTLE_PROCESSES, or RUSTY_KETTLE_DATABASE_URL.',
    });
  const tls = readTls(e);
  const key = valueOrFile(e, 'RUSTY_KETTLE_MASTER_KEY');
  const former = valueOrFile(e, 'RUSTY_KETTLE_FORMER_MASTER_KEY');
  if ([key, e.RUSTY_KETTLE_MASTER_KEY_COMMAND, e.RUSTY_KETTLE_MASTER_KEY_SHARES].filter((one) => one !== undefined && one !== '').length > 1)
    throw new Fault('SETTING_INVALID', {
      detail: 'The master key is given in more than one way.',
      remedy: 'Keep one of RUSTY_KETTLE_MASTER_KEY_FILE, _COMMAND and _SHARES.',
    });
  return {
    dataFolder: e.RUSTY_KETTLE_DATA_FOLDER ?? defaultDataFolder(environment),
    databaseUrl: e.RUSTY_KETTLE_DATABASE_URL ? new Secret(e.RUSTY_KETTLE_DATABASE_URL) : null,
    databaseNodes: e.RUSTY_KETTLE_DATABASE_NODES?.split(/[\s,]+/) ?? [],
    masterKey: key ? new Secret(key.trim()) : null,
    masterKeyCommand: e.RUSTY_KETTLE_MASTER_KEY_COMMAND ?? null,
    masterKeyShares: e.RUSTY_KETTLE_MASTER_KEY_SHARES?.split(/[\s,]+/).filter(Boolean) ?? [],
    formerMasterKey: former ? new Secret(former.trim()) : null,
    host: e.RUSTY_KETTLE_HOST,
    port: e.RUSTY_KETTLE_PORT,
    processes,
    isFirstProcess: true,
    publicUrl: checkPublicUrl(e.RUSTY_KETTLE_PUBLIC_URL ?? `${tls === null ? 'http' : 'https'}://127.0.0.1:${e.RUSTY_KETTLE_PORT}`, tls !== null),
    publicUrlIsDefault: e.RUSTY_KETTLE_PUBLIC_URL === undefined,
    privateHosts: e.RUSTY_KETTLE_PRIVATE_HOSTS.split(/[\s,]+/).filter(Boolean),
    trustedProxies: e.RUSTY_KETTLE_TRUSTED_PROXIES,
    tls,
    certificateHeader: e.RUSTY_KETTLE_CLIENT_CERTIFICATE_HEADER?.toLowerCase() ?? null,
    poolSize: e.RUSTY_KETTLE_POOL_SIZE,
    logLevel: e.RUSTY_KETTLE_LOG_LEVEL,
    concurrency: e.RUSTY_KETTLE_CONCURRENCY,
    originConcurrency: e.RUSTY_KETTLE_ORIGIN_CONCURRENCY,
    clientConcurrency: e.RUSTY_KETTLE_CLIENT_CONCURRENCY,
    blindLimitMs: Math.max(e.RUSTY_KETTLE_BLIND_SECONDS * 1000, LEAST_BLIND_MS),
    approvalCheckMs: e.RUSTY_KETTLE_APPROVAL_CHECK_SECONDS * 1000,
    bodyMs: e.RUSTY_KETTLE_BODY_SECONDS * 1000,
    historyMs: e.RUSTY_KETTLE_HISTORY_DAYS * 86_400_000,
    answers: { keptMs: e.RUSTY_KETTLE_ANSWERS_DAYS * 86_400_000, bytesMost: e.RUSTY_KETTLE_ANSWERS_MEGABYTES * 1_000_000 },
    outputFolder: e.RUSTY_KETTLE_OUTPUT_FOLDER ?? null,
    noticeSettleMs: e.RUSTY_KETTLE_NOTICE_SECONDS * 1000,
    metricsToken: e.RUSTY_KETTLE_METRICS_TOKEN === undefined ? null : new Secret(e.RUSTY_KETTLE_METRICS_TOKEN),
    tracesUrl: e.RUSTY_KETTLE_TRACES_URL ?? null,
    bundleFolder: e.RUSTY_KETTLE_BUNDLE_FOLDER ?? null,
    backupFolder: e.RUSTY_KETTLE_BACKUP_FOLDER ?? null,
    activityFile: e.RUSTY_KETTLE_ACTIVITY_FILE ?? null,
    rescue: e.RUSTY_KETTLE_RESCUE ?? null,
    scriptsFolder: e.RUSTY_KETTLE_SCRIPTS_FOLDER ?? null,
    mail: e.RUSTY_KETTLE_SMTP_URL === undefined ? null : { server: new Secret(e.RUSTY_KETTLE_SMTP_URL), from: e.RUSTY_KETTLE_MAIL_FROM },
    relayWaitMs: e.RUSTY_KETTLE_RELAY_WAIT_SECONDS * 1000,
    relayMostMs: e.RUSTY_KETTLE_RELAY_MOST_SECONDS * 1000,
    proxy: readProxy(environment),
    verifyRenewal: e.RUSTY_KETTLE_VERIFY_RENEWAL === 'on',
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

/** A key as a value, or from the file that is named. @throws {Fault} SETTING_INVALID */
function valueOrFile(e: z.output<typeof SettingsTable>, name: 'RUSTY_KETTLE_MASTER_KEY' | 'RUSTY_KETTLE_FORMER_MASTER_KEY'): string | undefined {
  const path = e[`${name}_FILE`];
  if (e[name] !== undefined || path === undefined) return e[name];
  try {
    return readFileSync(path, 'utf8');
  } catch {
    throw new Fault('SETTING_INVALID', { detail: `${name}_FILE names ${path}, which cannot be read.` });
  }
}

/** The public URL is an origin, without a path; https, or loopback. It decides the cookies' `Secure`. */
function checkPublicUrl(text: string, isSecure: boolean): string {
  const url = URL.canParse(text) ? new URL(text) : null;
  const wrong = (detail: string) =>
    new Fault('SETTING_INVALID', { detail: `RUSTY_KETTLE_PUBLIC_URL ${detail}`, remedy: 'Give an origin such as https://tokens.example.test.' });
  if (!url || url.username || url.search || url.hash || url.pathname !== '/') throw wrong('must be an origin: scheme, host and port only.');
  if (url.protocol !== 'https:' && !(url.protocol === 'http:' && isLoopbackHost(url.hostname))) throw wrong('must be https, unless it is on loopback.');
  if (isSecure && url.protocol !== 'https:') throw wrong('must be https: the service answers HTTPS itself.');
  return url.origin;
}

/** @throws {Fault} SETTING_INVALID */
function readTls(e: z.output<typeof SettingsTable>): Settings['tls'] {
  const [certificateFile, keyFile] = [e.RUSTY_KETTLE_TLS_CERTIFICATE_FILE, e.RUSTY_KETTLE_TLS_KEY_FILE];
  const clientCertificates = e.RUSTY_KETTLE_TLS_CLIENT_CERTIFICATES === 'on';
  const wrong = (detail: string, remedy?: string) => new Fault('SETTING_INVALID', { detail, ...(remedy ? { remedy } : {}) });
  if (certificateFile === undefined || keyFile === undefined) {
    if (certificateFile !== keyFile) throw wrong('RUSTY_KETTLE_TLS_CERTIFICATE_FILE and RUSTY_KETTLE_TLS_KEY_FILE belong together: one of them is missing.');
    if (clientCertificates || e.RUSTY_KETTLE_TLS_CLIENT_CA_FILE !== undefined)
      throw wrong('RUSTY_KETTLE_TLS_CLIENT_CERTIFICATES and RUSTY_KETTLE_TLS_CLIENT_CA_FILE need RUSTY_KETTLE_TLS_CERTIFICATE_FILE.');
    return null;
  }
  if (e.RUSTY_KETTLE_TLS_CLIENT_CA_FILE !== undefined && !clientCertificates)
    throw wrong('RUSTY_KETTLE_TLS_CLIENT_CA_FILE needs RUSTY_KETTLE_TLS_CLIENT_CERTIFICATES=on.');
  if (clientCertificates && e.RUSTY_KETTLE_CLIENT_CERTIFICATE_HEADER !== undefined)
    throw wrong('Certificates of callers would come in two ways.', 'Keep RUSTY_KETTLE_TLS_CLIENT_CERTIFICATES or RUSTY_KETTLE_CLIENT_CERTIFICATE_HEADER.');
  return { certificateFile, keyFile, clientCertificates, clientAuthorityFile: e.RUSTY_KETTLE_TLS_CLIENT_CA_FILE ?? null };
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
