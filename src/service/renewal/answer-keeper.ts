import { setTimeout as sleep } from 'node:timers/promises';
import type { FreshTokens } from '../../core/oauth/token-answer.ts';
import { planRenewal, type TokenLife } from '../../core/renewal/plan.ts';
import type { Attempt } from '../../core/renewal/transitions.ts';
import { save } from '../../core/renewal/transitions.ts';
import type { Ports } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { RenewalStore, SealedTokens } from '../store/renewals.ts';

/** How an answer ended: saved now, saved before (a repeated save), or overtaken by a newer answer or the grant's end. */
export type SaveResult = 'saved' | 'obsolete';

/**
 * Keeps answers until the database has them (T4). An answer is never dropped: while the database is away it stays in
 * memory and is tried again and again; a graceful stop waits for it.
 */
export interface AnswerKeeper {
  save(grantId: string, attempt: Attempt, tokens: FreshTokens, life: TokenLife, hasRefresh: boolean): Promise<SaveResult>;
  /** Runs `work` until it succeeds; counts as unsaved meanwhile. For first tokens, which are an insert. */
  keep<T>(what: string, work: () => Promise<T>): Promise<T>;
  unsaved(): number;
}

const RETRY_FIRST_MS = 100;
const RETRY_MOST_MS = 2_000;

export function answerKeeper(deps: { store: RenewalStore; sealer: Sealer; ports: Pick<Ports, 'log' | 'random'> }): AnswerKeeper {
  const { store, sealer, ports } = deps;
  let unsaved = 0;

  const keep = async <T>(what: string, work: () => Promise<T>): Promise<T> => {
    unsaved += 1;
    try {
      for (let waitMs = RETRY_FIRST_MS; ; waitMs = Math.min(waitMs * 2, RETRY_MOST_MS)) {
        try {
          return await work();
        } catch (cause) {
          ports.log.warn({ cause: String(cause), what }, 'an answer waits in memory for the database');
          await sleep(waitMs);
        }
      }
    } finally {
      unsaved -= 1;
    }
  };
  return {
    keep,
    unsaved: () => unsaved,
    save(grantId, attempt, tokens, life, hasRefresh) {
      const sealed = sealTokens(sealer, grantId, tokens);
      const nextAt = hasRefresh ? planRenewal(life, ports.random.unit()) : null;
      return keep(grantId, async () => {
        if (await store.save(grantId, save(attempt, life, nextAt), sealed)) return 'saved';
        const held = await store.read(grantId);
        if (!held) return 'obsolete';
        if (held.row.savedEpoch === attempt.epoch && held.row.generation > attempt.generation) return 'saved'; // done earlier: only the acknowledgement was lost
        if (held.row.generation === attempt.generation && !held.row.ended) throw new Error('read a stale row'); // run again
        return 'obsolete';
      });
    },
  };
}

/** Seals an answer's tokens for the row of their grant. */
export const sealTokens = (sealer: Sealer, grantId: string, tokens: Pick<FreshTokens, 'access' | 'refresh'>): SealedTokens => ({
  accessSealed: sealer.seal({ table: 'tokens', row: grantId, column: 'access_sealed' }, tokens.access),
  refreshSealed: tokens.refresh ? sealer.seal({ table: 'tokens', row: grantId, column: 'refresh_sealed' }, tokens.refresh) : null,
});
