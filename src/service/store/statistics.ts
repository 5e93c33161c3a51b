import { type Bind, type Database, idBytes, instantText } from './database.ts';

const HOUR_MS = 3_600_000;
const RENEWAL_KINDS = { renewed: 'renewed', renewal_failed: 'failed', action_needed: 'failed' } as const;
const USAGE_OUTCOMES = { token: 'tokens', relayed: 'relayed', refused: 'rejected', limited: 'rejected' } as const;

type Figure = 'renewed' | 'failed' | 'tokens' | 'relayed' | 'rejected';
/** What was counted in one hour; `startsAt` in epoch ms. */
export interface HourCount {
  startsAt: number;
  figure: Figure;
  count: number;
}
/** From `since` until before `until`, epoch ms. */
interface Range {
  since: number;
  until: number;
}

/** Counts by the hour, from the history and the uses. */
export interface StatisticsStore {
  /** @param subject as in the history, `connection:NAME`; left out: of all connections */
  renewals(range: Range, subject?: string): Promise<HourCount[]>;
  /** Of one connection or one caller, by record id; left out: of all. */
  uses(range: Range, of?: { connectionId?: string; callerId?: string }): Promise<HourCount[]>;
}

type Counted = { hour: number | bigint | string; word: string; n: number | bigint | string };

const hourCounts = <W extends string>(rows: readonly Counted[], figures: Readonly<Record<W, Figure>>): HourCount[] =>
  rows.map((row) => ({ startsAt: Number(row.hour) * HOUR_MS, figure: figures[row.word as W], count: Number(row.n) }));

// Instants are kept in UTC, and the session's zone is UTC: the difference to 1970 is exact.
const HOUR_OF = (column: string) => `TIMESTAMPDIFF(HOUR, '1970-01-01', ${column})`;

export function statisticsStore(database: Database): StatisticsStore {
  return {
    async renewals({ since, until }, subject) {
      const bind: Bind[] = [instantText(since), instantText(until)];
      const kinds = Object.keys(RENEWAL_KINDS).map((kind) => `$${bind.push(kind)}`);
      const ofOne = subject === undefined ? '' : `AND subject = $${bind.push(subject)}`;
      const rows = await database.select<Counted>(
        `SELECT ${HOUR_OF('at')} AS hour, kind AS word, COUNT(*) AS n FROM history
         WHERE at >= $1 AND at < $2 AND kind IN (${kinds.join(', ')}) ${ofOne} GROUP BY hour, word`,
        bind,
      );
      return hourCounts(rows, RENEWAL_KINDS);
    },
    async uses({ since, until }, { connectionId, callerId } = {}) {
      const bind: Bind[] = [instantText(since), instantText(until)];
      const ofCaller = callerId === undefined ? '' : `AND caller_id = $${bind.push(idBytes(callerId))}`;
      const ofConnection = connectionId === undefined ? '' : `AND connection_id = $${bind.push(idBytes(connectionId))}`;
      const rows = await database.select<Counted>(
        `SELECT ${HOUR_OF('minute')} AS hour, outcome AS word, SUM(count) AS n FROM usage_minutes
         WHERE minute >= $1 AND minute < $2 ${ofCaller} ${ofConnection} GROUP BY hour, word`,
        bind,
      );
      return hourCounts(rows, USAGE_OUTCOMES);
    },
  };
}
