import type { z } from 'zod';
import type { RelayedCalls, RelayedLast } from '../../api/common.ts';
import { readRelayed } from '../store/relayed.ts';
import { iso, type Services } from './services.ts';

type Shown = z.output<typeof RelayedCalls>;

/** Relayed calls of the last day, of one caller by connection or of one connection by caller: by the ID of the other, as hex. */
export async function relayedBy(s: Pick<Services, 'database'>, of: 'caller_id' | 'connection_id', id: Buffer): Promise<Map<string, Shown>> {
  const [counts, lasts] = await readRelayed(s.database, of, id);
  const found = new Map<string, Shown>();
  const shown = (key: Buffer): Shown => {
    const hex = key.toString('hex');
    const known = found.get(hex) ?? { by_class: {}, last: null, last_failed: null };
    found.set(hex, known);
    return known;
  };
  for (const row of counts) shown(row.other).by_class[row.class === 0 ? 'none' : `${row.class}xx`] = Number(row.n);
  for (const { other: key, kind, at, ...row } of lasts) {
    const last: z.output<typeof RelayedLast> = { ...row, at: iso(at.getTime()) };
    shown(key)[kind === 'last' ? 'last' : 'last_failed'] = last;
  }
  return found;
}
