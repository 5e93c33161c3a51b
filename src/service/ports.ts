import { randomBytes } from 'node:crypto';
import type { Logger } from 'pino';
import { newRecordId } from '../core/identifiers.ts';
import type { Send } from '../core/oauth/wire.ts';

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
  log: Logger;
}

export const random: Ports['random'] = { unit: Math.random, bytes: (count) => randomBytes(count) };

/** A fresh record id. */
export const recordId = (ports: Pick<Ports, 'clock' | 'random'>): string => newRecordId(ports.clock.now(), ports.random.bytes(16));
