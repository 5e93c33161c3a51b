import type { FreshTokens } from '../../core/oauth/token-answer.ts';
import type { TokenLife } from '../../core/renewal/plan.ts';
import { verifyNow } from '../../core/renewal/transitions.ts';
import type { Secret } from '../../core/secret.ts';
import type { Sealer } from '../sealer.ts';
import type { RenewalStore } from '../store/renewals.ts';
import type { SpareStore } from '../store/spares.ts';

/** A sealed answer that could not become current, opened. */
interface Spare {
  epoch: number;
  generation: number;
  tokens: Pick<FreshTokens, 'access' | 'refresh'>;
  life: TokenLife;
}

/** Which answer it is. */
interface SparePlace {
  grantId: string;
  epoch: number;
  generation: number;
}

/** T6: answers that came too late to be current. Used only when the provider rejects the current token. */
export interface Spares {
  /** Puts an answer by, once for each (grant, epoch), and has the current token verified. */
  put(at: SparePlace, tokens: Spare['tokens'], life: TokenLife): Promise<void>;
  /** Keeps an answer that could not be read, as evidence; never promoted. */
  putRaw(at: SparePlace, body: Secret, sentAt: number): Promise<void>;
  newest(grantId: string): Promise<Spare | null>;
  /** All that hold a refresh token. */
  all(grantId: string): Promise<Spare[]>;
  remove(grantId: string, epoch: number): Promise<void>;
  /** Forgets those whose grants have renewed since with what was current: they are of no use any more. */
  sweep(): Promise<void>;
}

const place = (grantId: string, epoch: number, column: string) => ({ table: 'spare_tokens', row: `${grantId}/${epoch}`, column });

export function spares(deps: { store: SpareStore; renewals: RenewalStore; sealer: Sealer }): Spares {
  const { store, renewals, sealer } = deps;
  const insert = (one: SparePlace & { kind: 'tokens' | 'raw' }, tokens: Spare['tokens'], life: TokenLife) =>
    store.add({
      ...one,
      ...life,
      accessSealed: sealer.seal(place(one.grantId, one.epoch, 'access_sealed'), tokens.access),
      refreshSealed: tokens.refresh ? sealer.seal(place(one.grantId, one.epoch, 'refresh_sealed'), tokens.refresh) : null,
    });
  const read = async (grantId: string, most: number): Promise<Spare[]> =>
    Promise.all(
      (await store.of(grantId, most)).map(async ({ epoch, generation, accessSealed, refreshSealed, issuedAt, expiresAt }) => {
        const [access, refresh] = await Promise.all([
          sealer.open(place(grantId, epoch, 'access_sealed'), accessSealed),
          sealer.open(place(grantId, epoch, 'refresh_sealed'), refreshSealed),
        ]);
        return { epoch, generation, tokens: { access, refresh }, life: { issuedAt, expiresAt } };
      }),
    );
  return {
    async put(at, tokens, life) {
      await insert({ ...at, kind: 'tokens' }, tokens, life);
      await renewals.update([at.grantId], verifyNow());
    },
    async putRaw(at, body, sentAt) {
      await insert({ ...at, kind: 'raw' }, { access: body, refresh: null }, { issuedAt: sentAt, expiresAt: sentAt });
    },
    newest: async (grantId) => (await read(grantId, 1))[0] ?? null,
    all: (grantId) => read(grantId, 100),
    remove: (grantId, epoch) => store.remove(grantId, epoch),
    sweep: () => store.sweep(),
  };
}
