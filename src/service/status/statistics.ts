import type { z } from 'zod';
import type { Statistics, StatisticsHour, StatisticsQuery } from '../../api/statistics.ts';
import { Fault } from '../../core/fault.ts';
import { iso } from '../iso.ts';
import type { HourCount } from '../store/statistics.ts';
import { HOUR_MS } from './hour-figures.ts';
import type { StatusParts } from './parts.ts';

/** Renewals, failures, tokens and calls by the hour: of all, of one connection or of one caller. @throws {Fault} NOT_FOUND */
export async function showStatistics(
  s: Pick<StatusParts, 'store' | 'ports' | 'hourFigures'>,
  { hours, connection, caller }: z.output<typeof StatisticsQuery>,
): Promise<z.output<typeof Statistics>> {
  const now = s.ports.clock.now();
  const last = Math.floor(now / HOUR_MS) * HOUR_MS;
  const since = last - (hours - 1) * HOUR_MS;
  const counts =
    connection === undefined && caller === undefined ? await s.hourFigures.since(since, now) : await countOne(s, { connection, caller }, since, now);
  const points = new Map<number, StatisticsHour>();
  for (let at = since; at <= last; at += HOUR_MS) points.set(at, { at: iso(at), renewed: 0, failed: 0, tokens: 0, relayed: 0, rejected: 0 });
  for (const { startsAt, figure, count } of counts) {
    const point = points.get(startsAt);
    if (point) point[figure] += count;
  }
  return { items: [...points.values()] };
}

async function countOne(
  s: Pick<StatusParts, 'store'>,
  of: { connection: string | undefined; caller: string | undefined },
  since: number,
  now: number,
): Promise<HourCount[]> {
  const range = { since, until: now + HOUR_MS };
  const connection = of.connection === undefined ? undefined : await s.store.connections.byName(of.connection);
  const caller = of.caller === undefined ? undefined : await s.store.callers.byName(of.caller);
  if (connection === null) throw new Fault('NOT_FOUND', { detail: `Connection "${of.connection}" not found.` });
  if (caller === null) throw new Fault('NOT_FOUND', { detail: `Caller "${of.caller}" not found.` });
  const uses = s.store.statistics.uses(range, {
    ...(connection ? { connectionId: connection.id } : {}),
    ...(caller ? { callerId: caller.id } : {}),
  });
  // Renewals are counted by name: what an earlier connection of this name did is not counted.
  const own = connection ? { ...range, since: Math.max(range.since, connection.createdAt) } : range;
  const renewals = connection && !caller ? s.store.statistics.renewals(own, `connection:${connection.name}`) : [];
  return (await Promise.all([uses, renewals])).flat();
}
