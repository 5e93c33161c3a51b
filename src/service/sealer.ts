import { chainKey } from '../core/activity/chain.ts';
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
  /** The data key that seals now. */
  activeKeyId(): string;
  /** Makes a new data key that seals from now on; the former ones open. @throws {Fault} MASTER_KEY_WRONG where the master key was changed meanwhile */
  rotate(): Promise<string>;
  /** Another replica rotated. */
  refresh(): Promise<void>;
  stop(): Promise<void>;
}

const MAX_SEALS = 2 ** 30;
const MAX_AGE_MS = 90 * 86_400_000;
const COUNT_STEP = 2 ** 16;
const ACTIVITY_PLACE: SealPlace = { table: 'installations', row: '1', column: 'activity_key_sealed' };

const wrapPlace = (id: string): SealPlace => ({ table: 'data_keys', row: id, column: 'wrapped' });

interface SealerParts {
  store: Pick<Store, 'installation' | 'dataKeys'>;
  master: MasterKey;
  /** The master key before this one, where it is being changed. */
  former: MasterKey | null;
  ports: Pick<Ports, 'clock' | 'random'>;
}

/**
 * Wraps the data keys under the new master key, where the database still has the former one. Each step is one statement that may run again:
 * the installation's row is last, so that whoever is killed in between goes on with both keys.
 * @returns whether it was changed now
 * @throws {Fault} MASTER_KEY_WRONG with what is known of the keys
 */
async function changeMaster({ store, master, former, ports }: SealerParts): Promise<boolean> {
  const installation = await store.installation.read();
  if (!installation) throw new Fault('INTERNAL', { detail: 'The installation row is missing.' });
  const isChange = former !== null && installation.masterKeyName === former.name && former.name !== master.name;
  if (isChange) checkMasterKey(former, installation.masterKeyName, installation.keyCheck);
  else if (installation.masterKeyName === master.name) checkMasterKey(master, installation.masterKeyName, installation.keyCheck);
  else
    throw new Fault('MASTER_KEY_WRONG', {
      detail: `The database wants the key ${installation.masterKeyName}; the key given is ${master.name}.${
        installation.masterKeyChangedAt === null
          ? ''
          : ` It was changed ${new Date(installation.masterKeyChangedAt).toISOString()}, perhaps by another replica.`
      }`,
      remedy: 'Give the key with that ID. To change the master key, give the new one, and the present one as RUSTY_KETTLE_FORMER_MASTER_KEY_FILE.',
    });
  for (const row of await store.dataKeys.all()) {
    if (row.masterKeyName === master.name) continue;
    if (former === null || row.masterKeyName !== former.name)
      throw new Fault('MASTER_KEY_WRONG', {
        detail: `A data key is still wrapped by the master key ${row.masterKeyName}: a change was not finished.`,
        remedy: 'Start once more with that key as RUSTY_KETTLE_FORMER_MASTER_KEY_FILE.',
      });
    const bytes = open(former, wrapPlace(row.id), row.wrapped);
    const wrapped = seal(master, ports.random.bytes(12), wrapPlace(row.id), bytes);
    await store.dataKeys.rewrap(row.id, former.name, { wrapped, masterKeyName: master.name });
  }
  if (!isChange) return false;
  await store.installation.change({
    ...{ masterKeyName: master.name, keyCheck: sealKeyCheck(master, ports.random.bytes(12)), masterKeyChangedAt: ports.clock.now() },
  });
  return true;
}

/**
 * Opens the key ring; makes the first data key where there is none, and changes the master key where a former one is given.
 * @returns the sealer, the key of the activity log, and whether the master key was changed now
 * @throws {Fault} MASTER_KEY_WRONG
 */
export async function openSealer(parts: SealerParts): Promise<{ sealer: Sealer; activityKey: Uint8Array; isChanged: boolean }> {
  const { store, master, former, ports } = parts;
  const keys = new Map<string, SealKey>();
  let active: { key: SealKey; id: string; createdAt: number; reserved: number } | null = null;
  const isChanged = await changeMaster(parts);

  const load = async (): Promise<void> => {
    for (const row of await store.dataKeys.all()) {
      // A replica with another master key may have made it: whoever has that key opens it.
      if (!keys.has(row.id) && row.masterKeyName === master.name)
        keys.set(row.id, { id: idBytes(row.id), bytes: open(master, wrapPlace(row.id), row.wrapped) });
    }
  };
  const make = async (): Promise<void> => {
    const present = (await store.installation.read())?.masterKeyName;
    if (present !== master.name)
      throw new Fault('MASTER_KEY_WRONG', {
        detail: `The master key was changed to ${present ?? 'another one'} while this replica ran with ${master.name}.`,
        remedy: 'Restart this replica with the new master key.',
      });
    const former = (await store.dataKeys.all()).filter((row) => row.state === 'active');
    const id = recordId(ports);
    const bytes = ports.random.bytes(32);
    const createdAt = ports.clock.now();
    const wrapped = seal(master, ports.random.bytes(12), wrapPlace(id), bytes);
    await store.dataKeys.add({ id, wrapped, masterKeyName: master.name, state: 'active', seals: COUNT_STEP, createdAt });
    for (const row of former) await store.dataKeys.retire(row.id);
    const key = { id: idBytes(id), bytes };
    keys.set(id, key);
    active = { key, id, createdAt, reserved: COUNT_STEP };
  };
  /** Chooses the newest active key, or makes one; reserves seals in large steps, so that counting costs no write for each. */
  const activate = async (): Promise<void> => {
    await load();
    const newest = await store.dataKeys.newestActive();
    if (!newest || newest.seals >= MAX_SEALS || ports.clock.now() - newest.createdAt >= MAX_AGE_MS) return make();
    await store.dataKeys.reserve(newest.id, COUNT_STEP);
    const key = keys.get(newest.id);
    if (!key) throw new Fault('SEAL_BROKEN', { detail: 'The active data key is not in the ring.' });
    active = { key, id: newest.id, createdAt: newest.createdAt, reserved: COUNT_STEP };
  };
  await activate();
  let activating: Promise<void> | null = null;
  const activateSoon = (): Promise<void> =>
    (activating ??= activate()
      .catch(() => undefined) // it goes on with the present key; the next step tries again
      .finally(() => {
        activating = null;
      }));

  const sealer: Sealer = {
    seal(place, secret) {
      if (!active) throw new Fault('INTERNAL', { detail: 'No data key is active.' });
      active.reserved -= 1;
      // Another step is reserved ahead of need; sealing goes on with the present key meanwhile (2^16 seals over count are harmless).
      if (active.reserved < COUNT_STEP / 2) void activateSoon();
      return seal(active.key, ports.random.bytes(12), place, Buffer.from(secret.reveal(), 'utf8'));
    },
    async open(place, sealed) {
      const id = idText(Buffer.from(sealedKeyId(sealed), 'hex'));
      if (!keys.has(id)) await load(); // another replica may have made a key since
      const key = keys.get(id);
      if (!key) throw new Fault('SEAL_BROKEN', { detail: 'Its data key is not in this database, or a replica with another master key made it.' });
      return new Secret(open(key, place, sealed).toString('utf8'));
    },
    activeKeyId: () => active?.id ?? '',
    async rotate() {
      await activating;
      await make();
      return active?.id ?? '';
    },
    refresh: activateSoon,
    async stop() {
      await activating;
    },
  };
  return { sealer, activityKey: await activityKeyOf(store, sealer, isChanged && former ? former : master), isChanged };
}

/** The key of the activity log came from the first master key; it is kept, so that a changed master key leaves the log verifiable. */
async function activityKeyOf(store: SealerParts['store'], sealer: Sealer, first: MasterKey): Promise<Uint8Array> {
  const kept = (await store.installation.read())?.activityKeySealed;
  if (kept) return Buffer.from((await sealer.open(ACTIVITY_PLACE, kept)).reveal(), 'base64');
  const key = chainKey(first.bytes); // every replica works out the same
  await store.installation.change({ activityKeySealed: sealer.seal(ACTIVITY_PLACE, new Secret(Buffer.from(key).toString('base64'))) });
  return key;
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
      activityKeySealed: null,
      masterKeyChangedAt: null,
      ...{ generation: 1, restoreId: null, formerUrl: null, successorRestore: null, successorGeneration: null, moves: false, practice: false },
    });
  } catch (error) {
    if (!(error instanceof Fault && error.code === 'NAME_TAKEN')) throw error; // another replica was first
  }
}
