import { setTimeout as sleep } from 'node:timers/promises';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { Secret } from '../../core/secret.ts';
import { networkOf, slowDown } from '../slow-down.ts';
import type { OperatorRow } from '../store/operators.ts';
import type { OperatorParts } from './parts.ts';

/** By name and network: five tries are free, then each costs a wait of twice the one before. Never by name alone: strangers could lock people out. */
const BY_NAME = { free: 5, firstWaitMs: 1_000, mostWaitMs: 60_000, forgottenMs: 900_000 };
const BY_NETWORK = { free: 30, firstWaitMs: 1_000, mostWaitMs: 60_000, forgottenMs: 900_000 };
/** Tries for one name from everywhere: not rejected, only slowed. */
const BY_NAME_ALONE = { free: 20, firstWaitMs: 0, mostWaitMs: 0, forgottenMs: 900_000 };
/** Codes of a second factor: whoever tries them has the password already. */
const BY_CODE = { free: 8, firstWaitMs: 5_000, mostWaitMs: 300_000, forgottenMs: 3_600_000 };
/** Six digits from everywhere, for one account: a stranger with many networks must not try them all. */
const BY_CODE_ALONE = { free: 60, firstWaitMs: 5_000, mostWaitMs: 300_000, forgottenMs: 3_600_000 };
const MAX_SLOWED_MS = 2_000;
const SLOWED_AT_ONCE = 200;
const SLOWED_OF_A_NETWORK = 5;
const NOTED_EVERY_MS = 600_000;
const DEVICE_PLACE = (name: string) => ({ table: 'operators', row: name, column: 'device' });

/** From where a code comes; `sessionId`: someone who is signed in confirms who they are. */
export interface CodeFrom {
  address: string;
  device?: string | undefined;
  sessionId?: string;
}

/** Checks passwords, and slows down whoever guesses. */
export function passwords(s: OperatorParts) {
  const [byName, byNetwork, byNameAlone] = [slowDown(BY_NAME), slowDown(BY_NETWORK), slowDown(BY_NAME_ALONE)];
  const [byCode, byCodeAlone] = [slowDown(BY_CODE), slowDown(BY_CODE_ALONE)];
  let slowed = 0;
  const slowedOf = new Map<string, number>();
  // Verified when the name is unknown, so that both answers take as long. Made once it is needed.
  let decoy: Promise<string> | null = null;
  /** What strangers do is counted, not stored: one line for many. */
  const noise = { failed: 0, networks: new Set<string>(), notedAt: Number.NEGATIVE_INFINITY };
  /** A browser or program that signed in as this operator before: strangers' failures do not slow it down. */
  const isKnownDevice = async (name: string, device: string | undefined): Promise<boolean> => {
    if (device === undefined || device.length > 400) return false;
    try {
      await s.sealer.open(DEVICE_PLACE(name), Buffer.from(device, 'base64url'));
      return true;
    } catch {
      return false; // another operator's, or made up
    }
  };
  /** Strangers who guess at one name wait for each other, network by network: its owner, who comes from another one, does not. */
  const slowedBy = async (name: string, network: string): Promise<void> => {
    byNameAlone.enter(name);
    const over = byNameAlone.failures(name) - BY_NAME_ALONE.free;
    if (over <= 0) return;
    const own = slowedOf.get(network) ?? 0;
    if (slowed >= SLOWED_AT_ONCE || own >= SLOWED_OF_A_NETWORK) throw new Fault('SIGN_IN_THROTTLED', { retryAfterMs: MAX_SLOWED_MS });
    slowed += 1;
    slowedOf.set(network, own + 1);
    try {
      await sleep(Math.min(MAX_SLOWED_MS, over * 50));
    } finally {
      slowed -= 1;
      const left = (slowedOf.get(network) ?? 1) - 1;
      if (left > 0) slowedOf.set(network, left);
      else slowedOf.delete(network);
    }
  };
  return {
    /** The operator whose password this is, or null; who may not sign in has none. A try counts before it is verified. @throws {Fault} SIGN_IN_THROTTLED */
    async operatorWith(name: string, password: string, address: string, device?: string): Promise<OperatorRow | null> {
      const network = networkOf(address);
      const known = await isKnownDevice(name, device);
      const keys = known ? [[byName, `${name}|${device}`] as const] : [[byName, `${name}|${network}`] as const, [byNetwork, network] as const];
      const waitMs = Math.max(...keys.map(([limit, key]) => limit.enter(key)));
      if (waitMs > 0) throw new Fault('SIGN_IN_THROTTLED', { retryAfterMs: waitMs });
      if (!known) await slowedBy(name, network);
      const row = await s.store.operators.byName(name);
      const found = row?.state === 'active' && row.passwordHash !== '' ? row : null;
      decoy ??= s.hashing.hash('nobody has this password');
      const good = await s.hashing.verify(found?.passwordHash ?? (await decoy), password, known);
      if (!found || !good) return null;
      for (const [limit, key] of keys) limit.forgive(key);
      byNameAlone.forgive(name);
      return found;
    },
    newDevice: (name: string): string => s.sealer.seal(DEVICE_PLACE(name), new Secret(base64url(s.ports.random.bytes(12)))).toString('base64url'),
    /** Before a one-time link is looked at. @throws {Fault} SIGN_IN_THROTTLED */
    enterNetwork(address: string): void {
      const waitMs = byNetwork.enter(networkOf(address));
      if (waitMs > 0) throw new Fault('SIGN_IN_THROTTLED', { retryAfterMs: waitMs });
    },
    /**
     * Before a code is verified. Tries count by where they come from: an open session, a device that signed in before, or a network; someone who
     * knows the password cannot keep its owner out. @returns what is called once the code was right
     * @param isRecovery a recovery code, which nobody guesses
     * @throws {Fault} SIGN_IN_THROTTLED
     */
    async enterCode({ id, name }: Pick<OperatorRow, 'id' | 'name'>, from: CodeFrom, isRecovery: boolean): Promise<() => void> {
      const isKnown = from.sessionId !== undefined || (await isKnownDevice(name, from.device));
      const key = `${id}|${from.sessionId ?? (isKnown ? from.device : networkOf(from.address))}`;
      const waits = [byCode.enter(key), ...(isKnown || isRecovery ? [] : [byCodeAlone.enter(id)])];
      const waitMs = Math.max(...waits);
      if (waitMs > 0) throw new Fault('SIGN_IN_THROTTLED', { retryAfterMs: waitMs });
      return () => {
        byCode.forgive(key);
        byCodeAlone.forgive(id);
      };
    },
    noteFailure(address: string): void {
      const network = networkOf(address);
      noise.failed += 1;
      if (noise.networks.size < 1_000) noise.networks.add(network);
      if (performance.now() - noise.notedAt < NOTED_EVERY_MS) return;
      const from = noise.networks.size === 1 ? 'one network' : `${noise.networks.size} networks`;
      s.history.add({
        actor: 'anyone',
        kind: 'sign_in_failed',
        subject: 'operators',
        says: `${noise.failed === 1 ? 'A sign-in' : `${noise.failed} sign-ins`} failed, from ${from}.`,
      });
      Object.assign(noise, { failed: 0, networks: new Set(), notedAt: performance.now() });
    },
  };
}
export type Passwords = ReturnType<typeof passwords>;
