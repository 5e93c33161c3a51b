import { readFileSync } from 'node:fs';
import { performance } from 'node:perf_hooks';
import type { ApiClient } from '../src/api/client.ts';
import { localiseText } from '../src/core/provider/rehearsal.ts';
import { newMasterKey, OWN_LIMITS, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';

/** The median of the ratios of slices, with the first and third quartile. */
export interface Ratio {
  ratio: number;
  low: number;
  high: number;
}

/** One measured figure beside its baseline and its target. */
export interface Measured {
  /** By which the history finds the same figure of other versions. */
  key: string;
  what: string;
  ours: string;
  against: string;
  /** Null: a figure of its own, against nothing. */
  ratio: Ratio | null;
  target: string;
  holds: boolean;
}

export const say = (text: string): void => void process.stdout.write(`${text}\n`);

export async function timed(work: () => Promise<unknown>): Promise<number> {
  const startedAt = performance.now();
  await work();
  return performance.now() - startedAt;
}

/** Nothing is hurried here, and little is logged. */
export const LIMITS = { ...OWN_LIMITS, RUSTY_KETTLE_LOG_LEVEL: 'warn' };

export interface Rig {
  service: ServiceUnderTest;
  call: ApiClient;
  masterKey: string;
}

/** One `rk serve` with a provider at a port, a client with a secret, and nothing else. */
export async function startRig(
  databaseUrl: string,
  standinPort: number,
  environment: Record<string, string> = {},
  change: (text: string) => string = (text) => text,
): Promise<Rig> {
  const masterKey = newMasterKey();
  const service = await startService({ databaseUrl, masterKey, environment: { ...LIMITS, ...environment } });
  const call = await signIn(service);
  await setUp(call, change(localiseText(readFileSync(new URL('../definitions/eelgrass.yaml', import.meta.url), 'utf8'), standinPort)));
  return { service, call, masterKey };
}

/** A provider from its definition, and a client with a secret. */
export async function setUp(call: ApiClient, document: string): Promise<void> {
  await call('addProvider', { body: { document } });
  const draft = await call('addClient', { body: { provider: 'eelgrass', name: 'bench' } });
  await call('changeClient', { params: { provider: 'eelgrass', client: 'bench' }, body: { revision: draft.revision, client_id: 'bench' } });
  await call('addSecret', { params: { provider: 'eelgrass', client: 'bench' }, body: { secret: 'bench-secret' } });
}

/** A further replica over the same database. */
export const startReplica = (rig: Rig, databaseUrl: string, environment: Record<string, string> = {}): Promise<ServiceUnderTest> =>
  startService({ databaseUrl, masterKey: rig.masterKey, publicUrl: rig.service.url, environment: { ...LIMITS, ...environment } });

export const CLIENT = { provider: 'eelgrass', client: 'bench' };
