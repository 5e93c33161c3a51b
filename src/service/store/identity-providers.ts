import { z } from 'zod';
import { GROUP_ROLES } from '../../core/sign-in/oidc.ts';
import { bytes, instant, json, number, orNull, text, textList } from './column.ts';
import type { Database } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const Rules = z.array(z.object({ group: z.string(), role: z.enum(GROUP_ROLES), labels: z.array(z.string()) }));
const COLUMNS = {
  id: number,
  title: text,
  issuer: text,
  clientId: text,
  /** Null: none, PKCE alone. */
  secretSealed: orNull(bytes),
  scopes: textList,
  groupsClaim: text,
  rules: json(Rules),
  changedBy: text,
  changedAt: instant,
};
export type IdentityProviderRow = RowOf<typeof COLUMNS>;

/** The OpenID Connect provider at which operators sign in. Instants are epoch ms. */
export interface IdentityProviderStore {
  read(): Promise<IdentityProviderRow | null>;
  set(row: Omit<IdentityProviderRow, 'id'>): Promise<void>;
  remove(): Promise<void>;
}

const THE_ONE = 1;

export function identityProviderStore(database: Database): IdentityProviderStore {
  const table = defineTable(database, 'identity_providers', COLUMNS, { primaryKey: ['id'] });
  return {
    read: () => table.find({ id: THE_ONE }),
    async set(row) {
      if ((await table.find({ id: THE_ONE })) !== null) await table.change({ id: THE_ONE }, row);
      else await table.insert({ id: THE_ONE, ...row });
    },
    remove: async () => void (await table.remove({ id: THE_ONE })),
  };
}
