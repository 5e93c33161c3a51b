import { randomBytes } from 'node:crypto';
import { setTimeout as timeout } from 'node:timers/promises';
import { newRecordId } from '../core/identifiers.ts';
import type { Send } from '../core/oauth/wire.ts';
import type { LogEvent } from './log-events.ts';
import type { Traces } from './traces.ts';

/** What touches the world, joined in main.ts and handed to whoever needs a part of it. */
export interface Ports {
  clock: {
    /** Epoch ms by the database's clock, as well as this process knows it. */
    now(): number;
  };
  random: {
    unit(): number;
    bytes(count: number): Uint8Array;
  };
  send: Send;
  /** Waits `ms`; shorter where `stop` is aborted. Never rejects: whoever waits looks at `stop`. */
  sleep(ms: number, stop?: AbortSignal): Promise<void>;
  log: Log;
  traces: Traces;
}

type Write = (fields: { event: LogEvent } & Record<string, unknown>, message: string) => void;
/** The log: each line has the name of its event, and a sentence for people. */
export interface Log {
  debug: Write;
  info: Write;
  warn: Write;
  error: Write;
  isLevelEnabled(level: string): boolean;
}

const POOL_BYTES = 8_192;
let pool = new Uint8Array(0);
let taken = 0;

/** Random bytes from a pool that is filled at once: one call into the system for hundreds of nonces. No byte is given twice. */
function randomFromPool(count: number): Uint8Array {
  if (count > POOL_BYTES / 4) return randomBytes(count);
  if (taken + count > pool.length) [pool, taken] = [randomBytes(POOL_BYTES), 0];
  taken += count;
  return pool.slice(taken - count, taken);
}

export const random: Ports['random'] = { unit: Math.random, bytes: randomFromPool };

export const sleep: Ports['sleep'] = (ms, stop) => timeout(ms, undefined, stop ? { signal: stop } : {}).catch(() => undefined); // aborted

/** A fresh record id. */
export const recordId = (ports: Pick<Ports, 'clock' | 'random'>): string => newRecordId(ports.clock.now(), ports.random.bytes(16));
