import { Fault } from '../../core/fault.ts';
import { runPeriodically } from '../run-periodically.ts';
import type { ResealRow, SealedValue } from '../store/sealed-values.ts';
import { SEALED_TABLES } from '../store/sealed-values.ts';
import type { KeyParts } from './parts.ts';

const EVERY_MS = 2_000;
const LEASE_MS = 30_000;
const ROWS = 200;
/** Values written side by side: the database commits them together, and renewals keep most of its connections. */
const AT_ONCE = 4;
/** Pieces under one lease. */
const PIECES = 20;

/** Re-seals values under the present data key. One replica at a time; whoever is killed, another goes on at the last piece. */
export const keepResealing = (s: KeyParts, stop: AbortSignal): Promise<void> =>
  runPeriodically({ ports: s.ports, everyMs: EVERY_MS, failed: 'secrets could not be sealed under the new key; retrying', stop }, async () => {
    const row = await s.store.sealedValues.reseal();
    if (row?.state !== 'running' || !(await s.store.sealedValues.claim(row.id, LEASE_MS))) return false;
    return piecesOf(s, row, stop);
  });

async function piecesOf(s: KeyParts, row: ResealRow, stop: AbortSignal): Promise<boolean> {
  let { position, done } = row;
  for (let piece = 0; piece < PIECES && !stop.aborted; piece += 1) {
    if (position.table >= SEALED_TABLES.length) {
      await finish(s, row, done);
      return false;
    }
    const { values, last } = await s.store.sealedValues.next(position.table, position.after, row.keyId, ROWS);
    for (let at = 0; at < values.length; at += AT_ONCE) {
      const sealed = await Promise.all(values.slice(at, at + AT_ONCE).map((value) => sealAnew(s, value)));
      done += sealed.filter(Boolean).length;
    }
    position = last === null ? { table: position.table + 1, after: null } : { ...position, after: last };
    await s.store.sealedValues.advance(row.id, { position, done });
  }
  await s.store.sealedValues.advance(row.id, { busyUntil: null });
  return true;
}

/** A value that does not open stays as it is: its own page shows why, and nothing is lost. */
async function sealAnew(s: KeyParts, value: SealedValue): Promise<boolean> {
  const place = { table: value.table, row: value.row, column: value.column };
  try {
    return await s.store.sealedValues.replace(value, s.sealer.seal(place, await s.sealer.open(place, value.sealed)));
  } catch (cause) {
    if (!(cause instanceof Fault && cause.code === 'SEAL_BROKEN')) throw cause;
    s.ports.log.error({ event: 'keys.value_not_opened', table: value.table, row: value.row }, 'a sealed value does not open, and keeps its key');
    return false;
  }
}

/** Former keys that seal nothing any more are deleted, so that a stolen copy of them is worth nothing for what comes. */
async function finish(s: KeyParts, row: ResealRow, done: number): Promise<void> {
  const counts = await s.store.sealedValues.countByKey();
  let destroyed = 0;
  for (const key of await s.store.dataKeys.all())
    if (key.state === 'opens_only' && !counts.has(key.id) && key.createdAt < row.startedAt) {
      await s.store.dataKeys.destroy(key.id);
      destroyed += 1;
    }
  await s.store.sealedValues.advance(row.id, { state: 'done', done, endedAt: s.ports.clock.now(), busyUntil: null });
  const says = `Sealed ${done} values under the new data key; deleted ${destroyed} former keys.`;
  s.history.add({ actor: 'service', kind: 'keys_resealed', subject: 'installation', says });
}
