import type { RenewalLimits } from '../../core/renewal/limits.ts';
import { cannotHold } from '../../core/renewal/uncertain-wait.ts';
import { type Bind, type Database, idBytes, idText } from '../store/database.ts';

/** Who may still hold the answer to a request, judged by heartbeats and watermarks. */
export interface Holders {
  /** True when none of these lives (null: nobody) can still bring an answer to what was sent at `sentAt` (epoch ms). */
  nobodyHolds(lives: (string | null)[], sentAt: number): Promise<boolean>;
  /** Since when this replica's contact with the database is unbroken, epoch ms. */
  contactSince(): number;
  /** Armed rows with a live lease whose owner has gone silent. */
  leftBySilent(): Promise<{ grantId: string; owner: string }[]>;
}

const LEFT_MOST = 200;

export function holders(deps: { database: Database; limits: RenewalLimits; me: string; contactSince(): number }): Holders {
  const { database, limits, me } = deps;
  return {
    async nobodyHolds(lives, sentAt) {
      // What we sent ourselves and still hold is in flight here, and would not have been claimed again.
      const others = [...new Set(lives)].filter((life): life is string => life !== null && life !== me);
      if (others.length === 0) return true;
      const bind: Bind[] = [];
      const list = others.map((life) => `$${bind.push(idBytes(life))}`).join(', ');
      const rows = await database.select<{ life_id: Buffer; seen_at: Date; open_since: Date | null; succeeded: number | bigint }>(
        `SELECT p.life_id, p.seen_at, p.open_since, EXISTS (SELECT 1 FROM replicas n WHERE n.instance_id = p.instance_id AND n.incarnation > p.incarnation AND n.recovered_at IS NOT NULL) OR p.roles = 'stopped' AS succeeded
         FROM replicas p WHERE p.life_id IN (${list})`,
        bind,
      );
      const signs = new Map(
        rows.map((row) => [
          idText(row.life_id),
          { seenAt: row.seen_at.getTime(), openSince: row.open_since?.getTime() ?? null, succeeded: Number(row.succeeded) === 1 },
        ]),
      );
      return others.every((life) => cannotHold(signs.get(life) ?? null, sentAt, limits));
    },
    contactSince: deps.contactSince,
    async leftBySilent() {
      const rows = await database.select<{ grant_id: Buffer; owner: Buffer }>(
        `SELECT r.grant_id, r.owner FROM renewals r JOIN replicas p ON p.life_id = r.owner
         WHERE r.next_at > UTC_TIMESTAMP(3) AND r.next_at <= UTC_TIMESTAMP(3) + INTERVAL ${limits.leaseMs * 1000} MICROSECOND AND r.sent_epoch IS NOT NULL AND r.lease_until > UTC_TIMESTAMP(3)
           AND p.seen_at < UTC_TIMESTAMP(3) - INTERVAL ${limits.silentMs * 1000} MICROSECOND AND p.life_id <> $1 LIMIT ${LEFT_MOST}`,
        [idBytes(me)],
      );
      return rows.map((row) => ({ grantId: idText(row.grant_id), owner: idText(row.owner) }));
    },
  };
}
