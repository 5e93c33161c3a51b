import type { FreshTokens } from '../../core/oauth/token-answer.ts';
import type { TokenLife } from '../../core/renewal/plan.ts';
import { proveNow } from '../../core/renewal/transitions.ts';
import type { Secret } from '../../core/secret.ts';
import type { Sealer } from '../sealer.ts';
import { type Database, idBytes, instantText } from '../store/database.ts';
import type { RenewalStore } from '../store/renewals.ts';

/** A sealed answer that could not become current, opened. */
export interface Spare {
  epoch: number;
  generation: number;
  tokens: Pick<FreshTokens, 'access' | 'refresh'>;
  life: TokenLife;
}

/** T6: answers that came too late to be current. Used only when the provider refuses the current token. */
export interface Spares {
  /** Puts an answer by, once for each (grant, epoch), and has the current token proved. */
  put(grantId: string, epoch: number, generation: number, tokens: Pick<FreshTokens, 'access' | 'refresh'>, life: TokenLife): Promise<void>;
  /** Keeps an answer that could not be read, as evidence; never promoted. */
  putRaw(grantId: string, epoch: number, generation: number, body: Secret, at: number): Promise<void>;
  newest(grantId: string): Promise<Spare | null>;
  /** All that hold a refresh token. */
  all(grantId: string): Promise<Spare[]>;
  remove(grantId: string, epoch: number): Promise<void>;
  /** Forgets those whose grants have renewed since with what was current: they are of no use any more. */
  sweep(): Promise<void>;
}

const place = (grantId: string, epoch: number, column: string) => ({ table: 'spare_tokens', row: `${grantId}/${epoch}`, column });

export function spares(deps: { database: Database; store: RenewalStore; sealer: Sealer }): Spares {
  const { database, store, sealer } = deps;
  const insert = (grantId: string, epoch: number, generation: number, kind: string, access: Secret, refresh: Secret | null, life: TokenLife) =>
    database.write(
      'INSERT IGNORE INTO spare_tokens (grant_id, epoch, generation, kind, access_sealed, refresh_sealed, issued_at, expires_at) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)',
      [
        idBytes(grantId),
        epoch,
        generation,
        kind,
        sealer.seal(place(grantId, epoch, 'access_sealed'), access),
        refresh ? sealer.seal(place(grantId, epoch, 'refresh_sealed'), refresh) : null,
        instantText(life.issuedAt),
        instantText(life.expiresAt),
      ],
    );
  const read = async (grantId: string, most: number): Promise<Spare[]> => {
    const rows = await database.select<{
      epoch: number | bigint;
      generation: number | bigint;
      access_sealed: Buffer;
      refresh_sealed: Buffer;
      issued_at: Date;
      expires_at: Date;
    }>(
      `SELECT epoch, generation, access_sealed, refresh_sealed, issued_at, expires_at FROM spare_tokens WHERE grant_id = $1 AND kind = 'tokens' AND refresh_sealed IS NOT NULL ORDER BY generation DESC, epoch DESC LIMIT ${most}`,
      [idBytes(grantId)],
    );
    return Promise.all(
      rows.map(async (row) => {
        const epoch = Number(row.epoch);
        const [access, refresh] = await Promise.all([
          sealer.open(place(grantId, epoch, 'access_sealed'), row.access_sealed),
          sealer.open(place(grantId, epoch, 'refresh_sealed'), row.refresh_sealed),
        ]);
        const life = { issuedAt: row.issued_at.getTime(), expiresAt: row.expires_at.getTime() };
        return { epoch, generation: Number(row.generation), tokens: { access, refresh }, life };
      }),
    );
  };
  return {
    async put(grantId, epoch, generation, tokens, life) {
      await insert(grantId, epoch, generation, 'tokens', tokens.access, tokens.refresh, life);
      await store.update([grantId], proveNow());
    },
    async putRaw(grantId, epoch, generation, body, at) {
      await insert(grantId, epoch, generation, 'raw', body, null, { issuedAt: at, expiresAt: at });
    },
    newest: async (grantId) => (await read(grantId, 1))[0] ?? null,
    all: (grantId) => read(grantId, 100),
    remove: async (grantId, epoch) => void (await database.write('DELETE FROM spare_tokens WHERE grant_id = $1 AND epoch = $2', [idBytes(grantId), epoch])),
    sweep: async () =>
      void (await database.write(
        'DELETE s FROM spare_tokens s LEFT JOIN renewals r ON r.grant_id = s.grant_id WHERE r.grant_id IS NULL OR r.ended = 1 OR r.parent_generation > s.generation',
      )),
  };
}
