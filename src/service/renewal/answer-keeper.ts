import { setTimeout as sleep } from 'node:timers/promises';
import type { FreshTokens } from '../../core/oauth/token-answer.ts';
import type { TokenLife } from '../../core/renewal/plan.ts';
import type { Attempt } from '../../core/renewal/transitions.ts';
import { save } from '../../core/renewal/transitions.ts';
import type { Ports } from '../ports.ts';
import type { Sealer } from '../sealer.ts';
import type { SealedTokens } from '../store/held-row.ts';
import type { RenewalStore } from '../store/renewals.ts';
import type { NewestAnswers } from './newest-answers.ts';
import type { Spares } from './spares.ts';
import type { Spill, SpilledAnswer } from './spill.ts';

/** How an answer ended: saved now or before (a repeated save), put by as a spare, or overtaken by a newer answer or the grant's end. */
type SaveResult = 'saved' | 'spare' | 'obsolete';

interface Answer {
  grantId: string;
  attempt: Pick<Attempt, 'epoch' | 'generation'>;
  tokens: FreshTokens;
  life: TokenLife;
  /** When the grant is renewed next, epoch ms. */
  nextAt: number;
  /** A second use of the spent token may end the grant: the spill does not wait for the database's silence. */
  urgent: boolean;
}

/**
 * Keeps answers until the database has them (T4). An answer is never dropped: while the database is away it stays in memory and,
 * sealed and fsynced, in a spill file (T5), and is tried again and again; a graceful stop waits for it.
 */
export interface AnswerKeeper {
  save(answer: Answer): Promise<SaveResult>;
  /** The same for the first answer of a consent: `insert` makes the grant. */
  saveFirst(answer: SpilledAnswer, insert: () => Promise<void>): Promise<void>;
  /** Runs `work` until it succeeds; counts as unsaved meanwhile. */
  keep<T>(what: string, work: () => Promise<T>): Promise<T>;
  unsaved(): number;
}

/** Without an acknowledgement for this long, an answer is spilled. */
const SPILL_AFTER_MS = 250;
const RETRY_FIRST_MS = 100;
const MAX_RETRY_MS = 2_000;

export function answerKeeper(deps: {
  store: RenewalStore;
  sealer: Sealer;
  spill: Spill;
  newest: Pick<NewestAnswers, 'put' | 'ended'>;
  spares: Spares;
  ports: Pick<Ports, 'log'>;
}): AnswerKeeper {
  const { store, sealer, ports } = deps;
  const spillLater = (answer: SpilledAnswer, afterMs: number) => {
    let writing: Promise<void> | null = null;
    const write = () => {
      writing = deps.spill.write(answer).catch((cause: unknown) => {
        ports.log.error(
          { event: 'renewals.answer_not_spilled', cause: cause instanceof Error ? cause.message : 'unknown' },
          'AN ANSWER CANNOT BE SPILLED: it is in memory alone; do not stop this process',
        );
      });
    };
    const timer = setTimeout(write, afterMs);
    if (afterMs === 0) {
      clearTimeout(timer);
      write();
    }
    return async () => {
      clearTimeout(timer);
      if (!writing) return;
      await writing;
      await deps.spill.remove(answer);
    };
  };
  let unsaved = 0;

  const keep = async <T>(what: string, work: () => Promise<T>): Promise<T> => {
    unsaved += 1;
    try {
      for (let waitMs = RETRY_FIRST_MS; ; waitMs = Math.min(waitMs * 2, MAX_RETRY_MS)) {
        try {
          return await work();
        } catch (cause) {
          ports.log.warn({ event: 'renewals.answer_waiting', cause: String(cause), what }, 'an answer waits in memory for the database');
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
    async saveFirst(answer, insert) {
      const settled = spillLater(answer, 0);
      deps.newest.put({ ...answer, generation: 1 });
      await keep(answer.grantId, insert);
      await settled();
    },
    async save({ grantId, attempt, tokens, life, nextAt, urgent }) {
      deps.newest.put({ grantId, epoch: attempt.epoch, generation: attempt.generation + 1, tokens, life });
      const settled = spillLater({ grantId, epoch: attempt.epoch, generation: attempt.generation, tokens, life }, urgent ? 0 : SPILL_AFTER_MS);
      const sealed = sealTokens(sealer, grantId, tokens);
      const transition = save(attempt, life, nextAt);
      const result = await keep(grantId, async (): Promise<SaveResult> => {
        if (await store.save(grantId, transition, sealed)) return 'saved';
        const held = await store.read(grantId);
        if (!held || held.row.ended) return 'obsolete';
        const { row } = held;
        if (row.savedEpoch === attempt.epoch && row.generation > attempt.generation) return 'saved'; // done earlier: only the acknowledgement was lost
        if (row.generation < attempt.generation) return 'obsolete'; // the database went back: the answer comes back from the data folder (T12)
        if (row.generation === attempt.generation) throw new Error('read a stale row'); // run again
        if (!tokens.refresh || (row.parentGeneration ?? 0) > attempt.generation) {
          deps.newest.ended([grantId]);
          return 'obsolete';
        }
        deps.newest.ended([grantId]); // another replica's answer is the newest one
        // Another answer to the same token was saved first: which of the two the provider honours is not known. T6.
        await deps.spares.put({ grantId, ...attempt }, tokens, life);
        return 'spare';
      });
      await settled();
      return result;
    },
  };
}

/** Seals an answer's tokens for the row of their grant. */
export const sealTokens = (sealer: Sealer, grantId: string, tokens: Pick<FreshTokens, 'access' | 'refresh'>): SealedTokens => ({
  accessSealed: sealer.seal({ table: 'tokens', row: grantId, column: 'access_sealed' }, tokens.access),
  refreshSealed: tokens.refresh ? sealer.seal({ table: 'tokens', row: grantId, column: 'refresh_sealed' }, tokens.refresh) : null,
});
