import { judgeAnswer } from '../../core/renewal/ground.ts';
import { putBack } from '../../core/renewal/transitions.ts';
import type { NewestAnswer, NewestAnswers, PutBackAll } from '../renewal/index.ts';
import { sealTokens } from '../renewal/index.ts';
import type { Sealer } from '../sealer.ts';
import type { HeldRow } from '../store/held-row.ts';
import { planNext, type RecoveryParts } from './replica.ts';

/** What it takes to put an answer back. */
export interface Saving extends Pick<RecoveryParts, 'contexts' | 'ports' | 'resumeFirst' | 'store'> {
  sealer: Sealer;
  /** The token in memory is another one from now on. */
  moved(grantId: string): void;
}
export interface PutBackParts extends Saving {
  newest: NewestAnswers;
  /** Resolves when no request of this replica is under way: what it brings is among its answers. */
  idle(): Promise<void>;
  /** Adds and retires again secrets and keys that the database lost; how many. */
  entered(): Promise<number>;
  /** This life is written down again where the database lost it. */
  revive(): Promise<void>;
}

type Done = Awaited<ReturnType<PutBackAll>>;
const nothing = (): Done => ({ putBack: 0, restored: 0, entered: 0, since: null, suspects: [] });

/** T12 for every grant of which this replica has an answer. Each is one conditional statement: to do it twice changes nothing. */
export const putBackAll =
  (s: PutBackParts): PutBackAll =>
  async () => {
    await s.idle();
    await s.revive();
    const done = nothing();
    done.entered = await s.entered();
    for await (const answer of s.newest.all()) await one(s, answer, done);
    return done;
  };

/** The same for answers that another installation transfers. */
export async function putBackThese(s: Saving, answers: readonly NewestAnswer[]): Promise<{ putBack: number; unknown: number }> {
  const done = nothing();
  for (const answer of answers) await one(s, answer, done);
  return { putBack: done.putBack, unknown: done.suspects.length };
}

/** The same for the answer that a folder has of one grant. True: it was newer. */
export const putBackOf =
  (s: Saving, newest: Pick<NewestAnswers, 'of'>) =>
  async (grantId: string): Promise<boolean> => {
    const answer = await newest.of(grantId);
    return answer !== null && (await putBackThese(s, [answer])).putBack > 0;
  };

/** The row is as new as the answer, and its token is another one: the two tables are of different times. */
async function isMixed(s: Pick<PutBackParts, 'sealer'>, held: HeldRow | null, { grantId, generation, life, tokens }: NewestAnswer): Promise<boolean> {
  if (!held?.refreshSealed || held.row.ended || held.row.generation !== generation || tokens.refresh === null) return false;
  if (held.row.issuedAt > life.issuedAt) return false;
  const present = await s.sealer.open({ table: 'tokens', row: grantId, column: 'refresh_sealed' }, held.refreshSealed);
  return present.reveal() !== tokens.refresh.reveal();
}

async function one(s: Saving, answer: NewestAnswer, done: Done): Promise<void> {
  const { grantId, first } = answer;
  const held = await s.store.read(grantId);
  const judged = (await isMixed(s, held, answer))
    ? 'put_back'
    : judgeAnswer(held?.row ?? null, { generation: answer.generation, isFirstKnown: first !== undefined });
  const context = (await s.contexts.of([grantId])).get(grantId);
  const connection = context?.connectionName ?? null;
  switch (judged) {
    case 'put_back': {
      const nextAt = answer.tokens.refresh || held?.refreshSealed ? await planNext(s, answer) : null;
      if (!(await s.store.save(grantId, putBack(answer, answer.life, nextAt), sealTokens(s.sealer, grantId, answer.tokens)))) return;
      s.moved(grantId);
      done.putBack += 1;
      done.since = Math.min(done.since ?? answer.life.issuedAt, answer.life.issuedAt);
      return;
    }
    case 'restore':
      try {
        await s.resumeFirst(answer, first as NonNullable<typeof first>, 'newer');
        // The answers after the first one, in one step.
        if (answer.generation > 1)
          await s.store.save(grantId, putBack(answer, answer.life, await planNext(s, answer)), sealTokens(s.sealer, grantId, answer.tokens));
        done.restored += 1;
      } catch (cause) {
        s.ports.log.warn({ event: 'answers.grant_not_restored', grant: grantId, cause: String(cause) }, 'a grant that the database lost cannot be restored');
        done.suspects.push({ connection, says: 'Its grant was lost, and its connection or client is not there.' });
      }
      return;
    case 'unknown':
      done.suspects.push({ connection, says: 'Its grant is not in the database any more.' });
      return;
    case 'present':
    case 'ended':
      return;
    default:
      judged satisfies never;
  }
}
