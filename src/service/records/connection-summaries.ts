import type { ConnectionSummary } from '../../api/connections.ts';
import { connectionHealth } from '../../core/health.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import type { RecordParts } from './parts.ts';

const DAY_MS = 86_400_000;
export const TICKS_SHOWN = 200;
export const TICKS_IN_LISTS = 40;

/** Shown form of each, with the last day's renewals as ticks: at most `ticks` each. */
export async function summaries(s: Pick<RecordParts, 'ports' | 'store' | 'history'>, all: ListedConnection[], ticks: number): Promise<ConnectionSummary[]> {
  const now = s.ports.clock.now();
  const titles = new Map((await s.store.providers.all()).map((provider) => [provider.name, provider.title]));
  const renewed = await s.history.renewals(
    all.map((one) => `connection:${one.name}`),
    now - DAY_MS,
    ticks,
  );
  return all.map((one) => ({
    name: one.name,
    provider: one.provider,
    provider_title: titles.get(one.provider) ?? one.provider,
    client: one.client,
    environment: one.environment,
    rehearsal: one.rehearsal,
    shared: one.shared,
    person: one.person && { of: one.name.split('@')[0] ?? '', key: one.person.key, name: one.person.name },
    ...connectionHealth(one.facts, now),
    account: one.account,
    labels: one.labels,
    life:
      one.issuedAt === null || one.expiresAt === null || one.kind === 'static_key'
        ? null
        : {
            issued_at: iso(one.issuedAt),
            due_at: isoOrNull(one.nextAt),
            expires_at: iso(one.expiresAt),
            renewed_at: (renewed.get(`connection:${one.name}`) ?? []).map(iso),
          },
    renewals: Math.max(0, one.generation - 1),
  }));
}
