import type { z } from 'zod';
import type { RelayedCalls, RelayedLast } from '../../api/common.ts';
import { iso } from '../iso.ts';
import type { UsageParts } from './parts.ts';

type Shown = z.output<typeof RelayedCalls>;

/** Relayed calls of the last day, of one caller by connection or of one connection by caller: by the ID of the other. */
export async function relayedBy(s: Pick<UsageParts, 'store'>, of: { callerId: string } | { connectionId: string }): Promise<Map<string, Shown>> {
  const { counts, lasts } = await s.store.relayed.read(of);
  const found = new Map<string, Shown>();
  const shown = (key: string): Shown => {
    const known = found.get(key) ?? { by_class: {}, last: null, last_failed: null };
    found.set(key, known);
    return known;
  };
  for (const row of counts) shown(row.other).by_class[row.group === 0 ? 'none' : `${row.group}xx`] = row.n;
  for (const { other: key, kind, at, ...row } of lasts) {
    const last: z.output<typeof RelayedLast> = { ...row, at: iso(at) };
    shown(key)[kind === 'last' ? 'last' : 'last_failed'] = last;
  }
  return found;
}
