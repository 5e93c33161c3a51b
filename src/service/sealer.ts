import { Fault } from '../core/fault.ts';
import { open, type SealKey, type SealPlace, seal, sealedKeyId } from '../core/sealing/envelope.ts';
import { checkMasterKey, type MasterKey, sealKeyCheck } from '../core/sealing/master-key.ts';
import { Secret } from '../core/secret.ts';
import { type Ports, recordId } from './ports.ts';
import { idBytes, idText } from './store/ids.ts';
import type { InstallationStore } from './store/installation.ts';
import type { Store } from './store/store.ts';

/** Seals and opens texts for their places, under data keys that the master key wraps. */
export interface Sealer {
  seal(place: SealPlace, secret: Secret): Buffer;
  open(place: SealPlace, sealed: Uint8Array): Promise<Secret>;
  stop(): Promise<void>;
}

const SEALS_MOST = 2 ** 30;
const AGE_MOST_MS = 90 * 86_400_000;
const COUNT_STEP = 2 ** 16;

const wrapPlace = (id: string): SealPlace => ({ table: 'data_keys', row: id, column: 'wrapped' });

/** Opens the key ring; makes installation row and first data key where there are none. @throws {Fault} MASTER_KEY_WRONG */
export async function openSealer(deps: {
  store: Pick<Store, 'installation' | 'dataKeys'>;
  master: MasterKey;
  ports: Pick<Ports, 'clock' | 'random'>;
}): Promise<Sealer> {
  const { store, master, ports } = deps;
  const keys = new Map<string, SealKey>();
  let active: { key: SealKey; id: string; createdAt: number; reserved: number } | null = null;

  const installation = await store.installation.read();
  if (!installation) throw new Fault('INTERNAL', { detail: 'The installation row is missing.' });
  checkMasterKey(master, installation.masterKeyName, installation.keyCheck);

  const load = async (): Promise<void> => {
    for (const row of await store.dataKeys.all()) {
      if (!keys.has(row.id)) keys.set(row.id, { id: idBytes(row.id), bytes: open(master, wrapPlace(row.id), row.wrapped) });
    }
  };
  /** Chooses the newest active key, or makes one; reserves seals in large steps, so that counting costs no write for each. */
  const activate = async (): Promise<void> => {
    await load();
    const newest = await store.dataKeys.newestActive();
    if (newest && newest.seals < SEALS_MOST && ports.clock.now() - newest.createdAt < AGE_MOST_MS) {
      await store.dataKeys.reserve(newest.id, COUNT_STEP);
      const key = keys.get(newest.id);
      if (!key) throw new Fault('SEAL_BROKEN', { detail: 'The active data key is not in the ring.' });
      active = { key, id: newest.id, createdAt: newest.createdAt, reserved: COUNT_STEP };
      return;
    }
    const id = recordId(ports);
    const bytes = ports.random.bytes(32);
    const createdAt = ports.clock.now();
    await store.dataKeys.add({
      id,
      wrapped: seal(master, ports.random.bytes(12), wrapPlace(id), bytes),
      masterKeyName: master.name,
      state: 'active',
      seals: COUNT_STEP,
      createdAt,
    });
    if (newest) await store.dataKeys.retire(newest.id);
    const key = { id: idBytes(id), bytes };
    keys.set(id, key);
    active = { key, id, createdAt, reserved: COUNT_STEP };
  };
  await activate();
  let activating: Promise<void> | null = null;

  return {
    seal(place, secret) {
      if (!active) throw new Fault('INTERNAL', { detail: 'No data key is active.' });
      active.reserved -= 1;
      // Another step is reserved ahead of need; sealing goes on with the present key meanwhile (2^16 seals over count are harmless).
      if (active.reserved < COUNT_STEP / 2 && !activating)
        activating = activate()
          .catch(() => undefined)
          .finally(() => {
            activating = null;
          });
      return seal(active.key, ports.random.bytes(12), place, Buffer.from(secret.reveal(), 'utf8'));
    },
    async open(place, sealed) {
      const id = idText(Buffer.from(sealedKeyId(sealed), 'hex'));
      if (!keys.has(id)) await load(); // another replica may have made a key since
      const key = keys.get(id);
      if (!key) throw new Fault('SEAL_BROKEN', { detail: 'Its data key is not in this database.' });
      return new Secret(open(key, place, sealed).toString('utf8'));
    },
    async stop() {
      await activating;
    },
  };
}

/** Writes the installation row of an empty database; harmless where there is one. */
export async function ensureInstallation(deps: {
  store: InstallationStore;
  master: MasterKey;
  publicUrl: string;
  ports: Pick<Ports, 'clock' | 'random'>;
}): Promise<void> {
  const { store, master, ports } = deps;
  if (await store.read()) return;
  try {
    await store.create({
      installationId: recordId(ports),
      publicUrl: deps.publicUrl,
      fingerprint: await store.fingerprint(),
      masterKeyName: master.name,
      keyCheck: sealKeyCheck(master, ports.random.bytes(12)),
      held: false,
      heldWhy: null,
      heldAt: null,
      ownedAt: null,
      answers: {},
      createdAt: ports.clock.now(),
    });
  } catch (error) {
    if (!(error instanceof Fault && error.code === 'NAME_TAKEN')) throw error; // another replica was first
  }
}
