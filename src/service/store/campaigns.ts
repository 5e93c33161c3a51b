import { id, instant, number, oneOf, orNull, text, textList } from './column.ts';
import { type Bind, type Database, idBytes, idText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  id,
  sharedId: id,
  name: text,
  purpose: text,
  callerId: orNull(id),
  scopes: textList,
  timesMost: number,
  remindHours: number,
  state: oneOf(['running', 'ended']),
  createdBy: text,
  createdAt: instant,
  endedAt: orNull(instant),
};
export type CampaignRow = RowOf<typeof COLUMNS>;

interface CampaignProgress {
  people: number;
  have: number;
  asked: number;
  exhausted: number;
}

/** Campaigns: everyone of a shared connection is asked to consent again, a limited number of times. */
export interface CampaignStore {
  list(sharedId: string): Promise<CampaignRow[]>;
  running(): Promise<CampaignRow[]>;
  byName(sharedId: string, name: string): Promise<CampaignRow | null>;
  add(row: CampaignRow): Promise<void>;
  end(campaignId: string, at: number): Promise<void>;
  progress(row: CampaignRow): Promise<CampaignProgress>;
  /** People who lack what it asks for and may be asked now, with how often they were. */
  toAsk(row: CampaignRow, most: number): Promise<{ connectionId: string; times: number }[]>;
  /** Counts that someone was asked once more, after so many times. */
  asked(campaignId: string, connectionId: string, times: number): Promise<void>;
}

export function campaignStore(database: Database): CampaignStore {
  const table = defineTable(database, 'campaigns', COLUMNS, { primaryKey: ['id'] });
  /** Who has all of it: every scope, through the client that the shared connection uses now. */
  const has = (row: CampaignRow, bind: Bind[]): string =>
    [
      'g.id IS NOT NULL',
      `COALESCE(g.client_id, k.client_id) = (SELECT s.client_id FROM connections s WHERE s.id = $${bind.push(idBytes(row.sharedId))})`,
      ...row.scopes.map((scope) => `JSON_CONTAINS(g.scopes, $${bind.push(JSON.stringify(scope))})`),
    ].join(' AND ');
  const from = `FROM connections k LEFT JOIN grants g ON g.id = k.current_grant_id
    LEFT JOIN campaign_people a ON a.campaign_id = $1 AND a.connection_id = k.id
    WHERE k.person_of = $2 AND k.intent <> 'revoked'`;
  return {
    list: (sharedId) => table.list({ sharedId }, { orderBy: 'createdAt' }),
    running: () => table.list({ state: 'running' }),
    byName: (sharedId, name) => table.find({ sharedId, name }),
    add: (row) => table.insert(row),
    end: async (campaignId, at) => void (await table.change({ id: campaignId, state: 'running' }, { state: 'ended', endedAt: at })),
    async progress(row) {
      const bind: Bind[] = [idBytes(row.id), idBytes(row.sharedId)];
      const have = has(row, bind);
      const [found] = await database.select<Record<keyof CampaignProgress, number | string | null>>(
        `SELECT COUNT(*) AS people, SUM(IF(${have}, 1, 0)) AS have, SUM(a.times IS NOT NULL) AS asked,
           SUM(IF(a.times >= ${Math.floor(row.timesMost)} AND NOT (${have}), 1, 0)) AS exhausted ${from}`,
        bind,
      );
      const figure = (name: keyof CampaignProgress): number => Number(found?.[name] ?? 0);
      return { people: figure('people'), have: figure('have'), asked: figure('asked'), exhausted: figure('exhausted') };
    },
    async toAsk(row, most) {
      const bind: Bind[] = [idBytes(row.id), idBytes(row.sharedId)];
      const rows = await database.select<{ id: Buffer; times: number | null }>(
        `SELECT k.id, a.times ${from} AND NOT (${has(row, bind)})
           AND (a.times IS NULL OR (a.times < ${Math.floor(row.timesMost)} AND a.asked_at < UTC_TIMESTAMP(3) - INTERVAL ${Math.floor(row.remindHours)} HOUR))
         LIMIT ${Math.floor(most)}`,
        bind,
      );
      return rows.map((one) => ({ connectionId: idText(one.id), times: Number(one.times ?? 0) }));
    },
    asked: async (campaignId, connectionId, times) =>
      void (await database.write(
        `INSERT INTO campaign_people (campaign_id, connection_id, times, asked_at) VALUES ($1, $2, $3, UTC_TIMESTAMP(3))
         ON DUPLICATE KEY UPDATE asked_at = IF(times < VALUES(times), UTC_TIMESTAMP(3), asked_at), times = GREATEST(times, VALUES(times))`,
        [idBytes(campaignId), idBytes(connectionId), times + 1],
      )),
  };
}
