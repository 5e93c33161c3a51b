import type { z } from 'zod';
import type { RelayedCalls, RelayedLast } from '../../api/common.ts';
import { iso, type Services } from './services.ts';

type Shown = z.output<typeof RelayedCalls>;
const DAY = 'UTC_TIMESTAMP(3) - INTERVAL 1 DAY';
const ROWS_MOST = 10_000;

/** How the relayed calls of the last day went, of one caller by connection or of one connection by caller: by the id of the other, as hex. */
export async function relayedBy(s: Pick<Services, 'database'>, of: 'caller_id' | 'connection_id', id: Buffer): Promise<Map<string, Shown>> {
  const other = of === 'caller_id' ? 'connection_id' : 'caller_id';
  const [counts, lasts] = await Promise.all([
    s.database.select<{ other: Buffer; class: number; n: number | bigint | string }>(
      `SELECT ${other} AS other, class, SUM(count) AS n FROM relayed_hours WHERE ${of} = $1 AND hour > ${DAY} GROUP BY ${other}, class LIMIT ${ROWS_MOST}`,
      [id],
    ),
    s.database.select<{
      other: Buffer;
      kind: 'last' | 'failed';
      at: Date;
      status: number | null;
      method: string;
      path: string;
      cause: string | null;
      says: string | null;
      remedy: string | null;
    }>(`SELECT ${other} AS other, kind, at, status, method, path, cause, says, remedy FROM relayed_last WHERE ${of} = $1 AND at > ${DAY} LIMIT ${ROWS_MOST}`, [
      id,
    ]),
  ]);
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
