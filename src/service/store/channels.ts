import { ChannelRule } from '../../core/notices/channel.ts';
import { bytes, flag, id, instant, json, number, oneOf, orNull, text, textList } from './column.ts';
import { type Database, idBytes, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const CHANNEL_KINDS = ['mail', 'webhook', 'script'] as const;
const COLUMNS = {
  id,
  name: text,
  kind: oneOf(CHANNEL_KINDS),
  recipients: textList,
  url: orNull(text),
  urlSealed: orNull(bytes),
  script: orNull(text),
  secretSealed: orNull(bytes),
  rule: json(ChannelRule),
  enabled: flag,
  revision: number,
  createdBy: text,
  createdAt: instant,
  /** One replica sends at a time, and after a failure nobody does for a while. */
  busyUntil: orNull(instant),
  failingSince: orNull(instant),
  failures: number,
  lastAt: orNull(instant),
  lastSays: text,
};
export type ChannelRow = RowOf<typeof COLUMNS>;

/** Where notices are sent. Instants are epoch ms. */
export interface ChannelStore {
  /** By name. */
  list(): Promise<ChannelRow[]>;
  /** Addresses that an earlier version wrote: not checked for secrets yet. */
  unsealed(most: number): Promise<ChannelRow[]>;
  /** Seals them in place: nothing else changes. */
  reseal(row: Pick<ChannelRow, 'id' | 'revision'>, set: Partial<ChannelRow>): Promise<void>;
  byId(channelId: string): Promise<ChannelRow | null>;
  byName(name: string): Promise<ChannelRow | null>;
  add(row: ChannelRow): Promise<void>;
  /** False: someone changed it since that revision. */
  revise(row: Pick<ChannelRow, 'id' | 'revision'>, set: Partial<ChannelRow>): Promise<boolean>;
  /** With what it was still to be told. */
  remove(channelId: string): Promise<void>;
  /** Takes it for a while, so that one replica alone sends. */
  claim(channelId: string, forMs: number): Promise<boolean>;
  /** Gives it back with how it went; `busyUntil`: it is not tried before. */
  release(channelId: string, set: Pick<ChannelRow, 'busyUntil' | 'failingSince' | 'failures' | 'lastAt' | 'lastSays'> | null): Promise<void>;
}

export function channelStore(database: Database): ChannelStore {
  const table = defineTable(database, 'channels', COLUMNS, { primaryKey: ['id'] });
  return {
    list: () => table.list({}, { orderBy: 'name' }),
    unsealed: (most) => table.list({ urlSealed: null }, { limit: most }),
    reseal: async ({ id: channelId, revision }, set) => void (await table.change({ id: channelId, revision }, set)),
    byId: (channelId) => table.find({ id: channelId }),
    byName: (name) => table.find({ name }),
    add: (row) => table.insert(row),
    revise: async ({ id: channelId, revision }, set) => (await table.change({ id: channelId, revision }, { ...set, revision: revision + 1 })) > 0,
    remove: async (channelId) => void (await table.remove({ id: channelId })),
    claim: async (channelId, forMs) =>
      (await database.write(
        `UPDATE channels SET busy_until = UTC_TIMESTAMP(3) + ${intervalText(forMs)}
         WHERE id = $1 AND (busy_until IS NULL OR busy_until <= UTC_TIMESTAMP(3))`,
        [idBytes(channelId)],
      )) > 0,
    release: async (channelId, set) => void (await table.change({ id: channelId }, set ?? { busyUntil: null })),
  };
}
