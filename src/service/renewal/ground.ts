import { lostSaves, type Mark, stillMissing } from '../../core/renewal/ground.ts';
import type { RenewalLimits } from '../../core/renewal/limits.ts';
import type { Changes, History } from '../history/index.ts';
import { iso } from '../iso.ts';
import { type Ports, recordId } from '../ports.ts';
import type { LossReport, LossRow, MarkStore } from '../store/marks.ts';
import type { NewestAnswers } from './newest-answers.ts';

/** Whether the database still has what it acknowledged; while that is not certain, no rotating token is spent. */
export interface Ground {
  /** No rotating token may be spent now. */
  isHeld(): boolean;
  /** Why; null: it is not held, or only until the database was looked at. */
  why(): { why: string; since: number } | null;
  /** At the start: the data folder knew of saves, and the database has them all. */
  isContinued: boolean;
  /** Saves of this replica that the database has acknowledged: for its heartbeat. */
  known(): number;
  /** A grant has an outdated token in the database, whatever the marks say. */
  suspect(): void;
  /** Looks in rounds, and puts back what was lost. */
  run(putBack: PutBackAll, stop: AbortSignal): Promise<void>;
  /** An operator accepts what may be lost. */
  accept(operator: string): Promise<void>;
}
/** Puts back what the newest answers of this replica have and the database has not. */
export type PutBackAll = () => Promise<Omit<LossReport, 'lost'>>;

interface GroundParts {
  store: MarkStore;
  newest: NewestAnswers;
  changes: Changes;
  history: History;
  limits: RenewalLimits;
  instanceId: string;
  ports: Pick<Ports, 'clock' | 'log' | 'random' | 'sleep'>;
}
type Seen = Mark & { seenAt: number | null; isStopped: boolean };

const PRUNE_EVERY_MS = 3_600_000;
/** Tables have the instant of their making in whole seconds. */
const JUST_MADE_MS = 3_000;
const STEP_MS = 250;
const TABLES_EVERY_MS = 60_000;
const MAX_LOADING_MS = 10 * 60_000;

/** Compares with what the data folder knows before anything is claimed, and counts from there on. */
export async function ground({ store, newest, changes, history, limits, instanceId, ports }: GroundParts): Promise<Ground> {
  const { count } = store;
  const knewSaves = newest.known().own > 0;
  const inDatabase = await store.begin(instanceId);
  count.begin(instanceId, Math.max(inDatabase, newest.known().own));
  let remembered = new Map(Object.entries(newest.known().others));
  let loss: LossRow | null = await store.open();
  let lost: string[] = [];
  /** Since when the database was out of reach, by its clock; null: it was not. */
  let brokeAt: number | null = null;
  let server = await store.server();
  /** When each table was made, as it was when all was well: a dump that is loaded makes them again, one after the other. */
  let [tables, tablesAt] = [new Map<string, number>(), Number.NEGATIVE_INFINITY];
  let isSuspected = false;
  let prunedAt = ports.clock.now();
  /** Where this replica has reported what it put back. */
  let reportedFor: string | null = null;

  const own = (marks: readonly Seen[]): Seen | undefined => marks.find((one) => one.instance === instanceId);
  const running = (marks: readonly Seen[]): string[] =>
    marks
      .filter((one) => one.instance !== instanceId && !one.isStopped && one.seenAt !== null && ports.clock.now() - one.seenAt <= limits.silentMs)
      .map((one) => one.instance);

  const notice = async (which: readonly string[]): Promise<void> => {
    const why = `The database has gone back: ${which.length === 1 ? 'a replica has' : `${which.length} replicas have`} saved tokens that it no longer holds. Renewals that could spend an outdated token are on hold until every replica has put back what it has. Start each of them; for one that will not come back, run \`rk replica adopt FOLDER\`.`;
    loss = await store.notice({ id: recordId(ports), noticedBy: instanceId, why });
    ports.log.error({ event: 'database.went_back', replicas: which }, why);
    history.add({ actor: 'service', kind: 'database_went_back', subject: 'installation', says: why });
    await changes.announce('installation', 'held');
  };
  const settle = (marks: readonly Seen[], since: ReturnType<typeof count.reading>): void => {
    remembered = new Map(marks.filter((one) => one.instance !== instanceId).map((one) => [one.instance, one.mark]));
    count.settled(own(marks)?.mark ?? 0, since);
    count.others([...remembered.values()].reduce((sum, one) => sum + one, 0));
    newest.knows({ own: count.known(), others: Object.fromEntries(remembered) });
    [brokeAt, lost] = [null, []];
  };
  /** While a dump is being loaded, what is put back would be overwritten. */
  const isBeingLoaded = async (open: LossRow): Promise<boolean> => {
    const made = await store.tables();
    const now = ports.clock.now();
    if ([...made.values()].some((at) => now - at < JUST_MADE_MS)) return true;
    const again = [...tables].filter(([name, at]) => made.get(name) !== at).length;
    return again > 0 && again < tables.size && now - open.noticedAt < MAX_LOADING_MS;
  };
  /** After a break others may know of losses that we do not: each that ran must have been there again since. */
  const awaited = (marks: readonly Seen[]): string[] => {
    if (brokeAt === null) return [];
    const since = brokeAt;
    return marks
      .filter((one) => one.instance !== instanceId && !one.isStopped && one.seenAt !== null)
      .filter(({ seenAt }) => (seenAt as number) < since && (seenAt as number) > since - 2 * limits.silentMs)
      .filter(() => ports.clock.now() - since <= limits.silentMs)
      .map((one) => one.instance);
  };
  const lookNow = async (): Promise<void> => {
    const before = loss;
    loss = await store.open();
    // It is settled: what is lost from here on is another loss.
    if (before !== null && loss === null) lost = [];
    const at = await store.server();
    if (at !== server) [server, brokeAt] = [at, brokeAt ?? ports.clock.now()];
    // What is acknowledged while the marks are read is not in them yet.
    const [known, since] = [count.known(), count.reading()];
    const marks = await store.read();
    const mine = lostSaves(marks, new Map([...remembered, [instanceId, known]]));
    lost = [...new Set([...lost, ...mine, ...(isSuspected ? [instanceId] : [])])];
    isSuspected = false;
    if (lost.length > 0 && loss === null) return notice(lost);
    if (loss !== null || awaited(marks).length > 0) return;
    if (ports.clock.now() - tablesAt >= TABLES_EVERY_MS) [tables, tablesAt] = [await store.tables(), ports.clock.now()];
    settle(marks, since);
  };
  const look = async (): Promise<void> => {
    try {
      await lookNow();
    } catch (cause) {
      brokeAt ??= ports.clock.now();
      count.doubt();
      throw cause;
    }
  };
  const finish = async (open: LossRow, marks: readonly Seen[]): Promise<void> => {
    const reports = await store.reports(open.id);
    const all = { lost: [...lost, ...reports.flatMap((one) => one.report.lost)], running: running(marks), reported: reports.map((one) => one.instanceId) };
    if (stillMissing(all).length > 0 || !(await store.end(open.id, 'service'))) return;
    const sum = (of: (report: LossReport) => number): number => reports.reduce((total, one) => total + of(one.report), 0);
    const since = Math.min(...reports.flatMap((one) => (one.report.since === null ? [] : [one.report.since])));
    const suspects = reports.flatMap((one) => one.report.suspects);
    const says = `The database had gone back${Number.isFinite(since) ? `, to ${iso(since)} or before` : ''}. ${sum((one) => one.putBack)} tokens were restored and ${sum((one) => one.restored)} grants restored; ${sum((one) => one.entered)} secrets, keys and revocations entered since are in place again. Renewals continue.${
      suspects.length === 0
        ? ''
        : ` ${suspects.length} connections may have lost something: ${suspects
            .slice(0, 20)
            .map((one) => one.connection ?? 'removed')
            .join(', ')}.`
    } What was changed in between, such as definitions, labels or jobs, must be entered again.`;
    ports.log.warn({ event: 'database.losses_put_back' }, says);
    history.add({ actor: 'service', kind: 'losses_put_back', subject: 'installation', says, data: { suspects: suspects.slice(0, 200) } });
    await changes.announce('installation', 'owned');
  };
  const isHeld = (): boolean => isSuspected || loss !== null || lost.length > 0 || brokeAt !== null || count.isInDoubt();
  /** Until the next look; a doubt is looked into at once. */
  const pause = async (stop: AbortSignal): Promise<void> => {
    for (let passedMs = 0; passedMs < limits.heartbeatMs && !stop.aborted; passedMs += STEP_MS) {
      await ports.sleep(Math.min(STEP_MS, limits.heartbeatMs), stop);
      if (isHeld()) return;
    }
  };
  const putBackOnce = async (putBack: PutBackAll): Promise<void> => {
    const open = loss;
    if (open === null) return;
    if (reportedFor !== open.id) {
      if (await isBeingLoaded(open)) return;
      const report = await putBack();
      await store.raiseTo(instanceId, count.known());
      await store.report(open.id, instanceId, { ...report, lost });
      reportedFor = open.id;
    }
    await finish(open, await store.read());
  };

  await look();
  return {
    isContinued: knewSaves && loss === null && lost.length === 0,
    suspect() {
      isSuspected = true;
    },
    isHeld,
    why: () => loss && { why: loss.why, since: loss.noticedAt },
    known: () => count.known(),
    async run(putBack, stop) {
      while (!stop.aborted) {
        try {
          await look();
          if (loss !== null) await putBackOnce(putBack);
          if (ports.clock.now() - prunedAt > PRUNE_EVERY_MS) {
            prunedAt = ports.clock.now();
            await newest.prune();
          }
        } catch (cause) {
          ports.log.debug({ event: 'ground.not_looked_at', cause: cause instanceof Error ? cause.message : 'unknown' }, 'marks not read; retrying');
        }
        await pause(stop);
      }
    },
    async accept(operator) {
      const open = await store.open();
      if (open === null) return;
      await store.end(open.id, operator);
      await store.raiseTo(instanceId, count.known());
      await store.forgive();
      remembered = new Map();
      [loss, lost] = [null, []];
      await look();
    },
  };
}
