import type { KeysShown } from '../../api/keys.ts';
import { Fault } from '../../core/fault.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { KeyParts } from './parts.ts';

/** Which key sealed what, and how far re-sealing is. Keys themselves are never shown: their IDs are. */
export async function showKeys(s: KeyParts): Promise<KeysShown> {
  const [installation, keys, counts, reseal] = await Promise.all([
    s.store.installation.read(),
    s.store.dataKeys.all(),
    s.store.sealedValues.countByKey(),
    s.store.sealedValues.reseal(),
  ]);
  const missing = [...counts].filter(([id]) => !keys.some((key) => key.id === id)).reduce((sum, [, count]) => sum + count, 0);
  return {
    master_key: installation?.masterKeyName ?? '',
    master_key_changed_at: isoOrNull(installation?.masterKeyChangedAt ?? null),
    data_keys: keys.map((key) => ({
      ...{ id: key.id, seals: key.state === 'active', created_at: iso(key.createdAt), values: counts.get(key.id) ?? 0 },
      master_key: key.masterKeyName,
    })),
    without_key: missing,
    reseal:
      reseal === null
        ? null
        : {
            ...{ state: reseal.state, key: reseal.keyId, done: reseal.done, total: reseal.total, started_by: reseal.startedBy },
            ...{ started_at: iso(reseal.startedAt), ended_at: isoOrNull(reseal.endedAt) },
          },
  };
}

/** A new data key seals from now on; what is sealed is re-sealed under it, a piece at a time. @throws {Fault} IN_USE while that is under way */
export async function rotateKeys(s: KeyParts, { actor }: Command<'rotateKeys'>): Promise<KeysShown> {
  const running = await s.store.sealedValues.reseal();
  if (running?.state === 'running')
    throw new Fault('IN_USE', {
      detail: `Secrets are being sealed under a new key: ${running.done} of ${running.total}.`,
      remedy: 'Wait until it is done: `rk keys show`.',
    });
  const keyId = await s.sealer.rotate();
  const total = [...(await s.store.sealedValues.countByKey())].filter(([id]) => id !== keyId).reduce((sum, [, count]) => sum + count, 0);
  await s.store.sealedValues.begin({
    ...{ id: recordId(s.ports), keyId, state: 'running', position: { table: 0, after: null }, done: 0, total },
    ...{ startedBy: actor.operator.name, startedAt: s.ports.clock.now(), endedAt: null, busyUntil: null },
  });
  s.history.add({ actor: actor.operator.name, kind: 'keys_rotated', subject: 'installation', says: `Made a new data key; ${total} values are re-sealed.` });
  await s.changes.announce('keys', keyId);
  return showKeys(s);
}
