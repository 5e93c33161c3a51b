import type { RenewalLimits } from '../../core/renewal/limits.ts';
import { issuanceFloorMs, nextRenewalAt, planRenewal, requestDeadlineMs } from '../../core/renewal/plan.ts';
import { recover } from '../../core/renewal/transitions.ts';
import { uncertainWaitMs } from '../../core/renewal/uncertain-wait.ts';
import type { DatabaseClock } from '../database/index.ts';
import type { Ports } from '../ports.ts';
import type { AnswerKeeper, FirstAnswer, GrantContexts, Spill, SpilledAnswer } from '../renewal/index.ts';
import type { RenewalStore } from '../store/renewals.ts';
import type { ReplicaStore } from '../store/replicas.ts';

/** One life of this process under the instance id of its data folder. */
export interface Replica {
  lifeId: string;
  incarnation: number;
  /** Since when the heartbeat has been written without a gap, epoch ms of the database. */
  contactSince(): number;
  /** T10 is done: from now on the watermark tells the truth. */
  recovered(): Promise<void>;
  /** Writes this life down again, where the database has lost it. */
  revive(): Promise<void>;
  /** Ends the heartbeat. `clean`: nothing is held any more, in memory or on disk, and the others may know. */
  stop(clean: boolean): Promise<void>;
}

export interface ReplicaParts {
  store: ReplicaStore;
  clock: DatabaseClock;
  limits: RenewalLimits;
  ports: Pick<Ports, 'log'>;
  instanceId: string;
  lifeId: string;
  /** The watermark, epoch ms; null: nothing is open. */
  openSince(): number | null;
  /** Saves that the database has acknowledged (core/renewal/ground.ts). */
  known(): number;
}

const FORMER_LIVES_KEPT_DAYS = 7;
/** A heartbeat that was under way for longer speaks of the past and changes nothing. */
const BEAT_GOOD_FOR_MS = 5_000;
/** "The oldest possible time": until T10 is done, this instance may hold anything. */
const EVERYTHING = Date.UTC(2000, 0, 1);

/** Counts this life and starts its heartbeat. */
export async function beginLife(parts: ReplicaParts): Promise<Replica> {
  const { store, clock, limits, ports, instanceId, lifeId } = parts;
  const incarnation = (await store.lastIncarnation(instanceId)) + 1;
  const now = clock.now();
  const add = () =>
    store.add({
      ...{ lifeId, instanceId, incarnation, roles: 'web,renewal', startedAt: now, seenAt: clock.now() },
      ...{ openSince: EVERYTHING, offsetMs: clock.offsetMs(), recoveredAt: null },
    });
  await add();
  await store.deleteFormer(FORMER_LIVES_KEPT_DAYS);

  let isRecovered = false;
  let contactSince = now;
  let beatenAt = now;
  const beat = async (): Promise<void> => {
    const composedAt = clock.now();
    const open = isRecovered ? parts.openSince() : EVERYTHING;
    try {
      await store.beat(lifeId, { openSince: open, offsetMs: clock.offsetMs(), goodUntil: composedAt + BEAT_GOOD_FOR_MS, known: parts.known() });
      const at = clock.now();
      if (at - beatenAt > limits.silentMs) contactSince = at;
      beatenAt = at;
    } catch (cause) {
      ports.log.debug({ event: 'replica.heartbeat_not_written', cause: String(cause) }, 'heartbeat not written');
    }
  };
  const timer = setInterval(() => void beat(), limits.heartbeatMs).unref();
  return {
    lifeId,
    incarnation,
    // While our own heartbeat is late, contact counts as broken already.
    contactSince: () => (clock.now() - beatenAt > limits.silentMs ? clock.now() : contactSince),
    async recovered() {
      await store.recovered(lifeId);
      isRecovered = true;
      await beat();
    },
    async revive() {
      if ((await store.signsOf([lifeId])).size > 0) return;
      await add();
      if (isRecovered) await store.recovered(lifeId);
      await beat();
    },
    async stop(clean) {
      clearInterval(timer);
      if (clean) await store.stopped(lifeId).catch(() => undefined); // unavailable: it will look silent
    },
  };
}

/**
 * T10, before anything is claimed: answers that a former life spilled are saved, then what it left in the rows is freed at once.
 * That life is dead (it would hold the data folder's socket), so nobody else holds the answers to what it sent.
 */
export async function recoverFormerLives(deps: RecoveryParts): Promise<{ saved: number; freed: number }> {
  const saved = await replaySpill(deps);
  return { saved, freed: await freeRows(deps) };
}

export interface RecoveryParts {
  store: RenewalStore;
  /** Saves an answer that this folder has of a grant, where it is newer than the database's. True: it was. */
  putBack(grantId: string): Promise<boolean>;
  keeper: AnswerKeeper;
  spill: Spill;
  contexts: GrantContexts;
  limits: RenewalLimits;
  ports: Pick<Ports, 'clock' | 'log' | 'random'>;
  instanceId: string;
  lifeId: string;
  /** Makes the grant of a first answer that was spilled. */
  resumeFirst(answer: SpilledAnswer, first: FirstAnswer, than?: 'newer'): Promise<void>;
}

/** How many answers were there; each is unlinked once it is safe. */
async function replaySpill(deps: RecoveryParts): Promise<number> {
  const { ports } = deps;
  const spilled = deps.spill.left();
  for (const answer of spilled) {
    const { first } = answer;
    if (first) {
      await deps.keeper.saveFirst(answer, () => deps.resumeFirst(answer, first));
      await deps.spill.remove(answer);
      continue;
    }
    const nextAt = await planNext(deps, answer);
    const result = await deps.keeper.save({ ...answer, attempt: answer, nextAt, urgent: true });
    await deps.spill.remove(answer);
    ports.log.warn({ event: 'replica.answer_recovered', grant: answer.grantId, result }, 'an answer that a former life had spilled is back in the database');
  }
  return spilled.length;
}

/** When the grant of an answer is renewed next, epoch ms. */
export async function planNext({ contexts, ports }: Pick<RecoveryParts, 'contexts' | 'ports'>, { grantId, life }: SpilledAnswer): Promise<number> {
  const context = (await contexts.of([grantId])).get(grantId);
  if (!context) return planRenewal(life, ports.random.unit());
  const use = { policy: context.policy, paused: context.intent === 'paused', lastUsedAt: context.lastUsedAt };
  return nextRenewalAt(life, use, context.definition.dialect, ports.random.unit());
}

async function freeRows(deps: RecoveryParts): Promise<number> {
  const { store, contexts, limits, ports } = deps;
  const left = await store.leftBy(deps.instanceId, deps.lifeId);
  const known = await contexts.of(left.map((one) => one.grantId));
  for (const { grantId, row } of left) {
    if (await deps.putBack(grantId)) continue; // the answer to what was sent had reached the folder
    const context = known.get(grantId);
    const sent = row.sentEpoch !== null || row.uncertainSince !== null;
    const now = ports.clock.now();
    const sentAt = Math.min(row.sentAt ?? now, now);
    const use = { since: row.uncertainSince ?? sentAt, sentAt, nobodyHolds: true, contactSince: now, expiresAt: row.expiresAt, floorMs: issuanceFloorMs(row) };
    const waitMs =
      sent && context
        ? uncertainWaitMs(context.definition.dialect, use, now, { limits, deadlineMs: requestDeadlineMs(limits, row.expiresAt - row.issuedAt) })
        : 0;
    await store.update([grantId], recover(waitMs));
  }
  if (left.length > 0) ports.log.info({ event: 'replica.rows_freed', freed: left.length }, 'freed what a former lifetime left behind');
  return left.length;
}
