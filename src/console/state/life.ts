import type { LifeLine } from '../../api/connections.ts';

const DAY_MS = 86_400_000;

/** A life line as percentages of its strip. `now`: epoch ms. */
export interface SeenLife {
  now: number;
  /** Null: no renewal is planned. */
  due: number | null;
  phase: 'fresh' | 'due' | 'over';
  /** The last day's renewals, 0 a day ago and 100 now. */
  ticks: number[];
}

export function readLife(life: LifeLine, now: number): SeenLife {
  const [issuedAt, expiresAt] = [Date.parse(life.issued_at), Date.parse(life.expires_at)];
  const dueAt = life.due_at === null ? null : Date.parse(life.due_at);
  const place = (at: number) => Math.min(100, Math.max(0, (100 * (at - issuedAt)) / (expiresAt - issuedAt)));
  return {
    now: place(now),
    due: dueAt === null ? null : place(dueAt),
    phase: now >= expiresAt ? 'over' : dueAt !== null && now >= dueAt ? 'due' : 'fresh',
    ticks: life.renewed_at.map((at) => (100 * (Date.parse(at) - (now - DAY_MS))) / DAY_MS).filter((at) => at >= 0 && at <= 100),
  };
}
