import { retryAfter } from '../../core/oauth/token-answer.ts';
import type { Api, Quota } from '../../core/provider/api.ts';
import { quotaInWords, weightOf, windowAt } from '../../core/quota/windows.ts';
import type { Changes } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { QuotaStore } from '../store/quotas.ts';
import { type HeldWindow, type QuotaUse, quotaLeases } from './leases.ts';

export type { QuotaUse } from './leases.ts';

/** Who calls what: the windows of the provider, and those of the caller's share. */
interface QuotaCall {
  api: Api;
  clientRecordId: string;
  connectionId: string;
  callerId: string | null;
  /** In percent of each window; null: all of it. */
  share: number | null;
  method: string;
  /** Without its query. */
  path: string;
}

interface QuotaLeft {
  window: Quota['window'];
  unit: Quota['unit'];
  of: Quota['of'];
  most: number;
  says: string;
  left: number;
  resets_at: number;
  /** The provider asked us to wait until then, epoch ms; null: it did not. */
  held_until: number | null;
}

/**
 * Quotas of what passes here, counted together by all callers and replicas: a replica leases a chunk of a window by a conditional
 * UPDATE and spends it from memory. What the provider's own headers say corrects the count upwards.
 */
export interface Quotas {
  usesOf(call: QuotaCall): QuotaUse[];
  /** True: the call may be made, from what this replica leased before. False: nothing is taken; `take` may have to ask. */
  takeLeased(uses: readonly QuotaUse[]): boolean;
  /** Null: the call may be made. Else in how many ms it may be tried again; up to `patienceMs` it waits automatically. */
  take(uses: readonly QuotaUse[], patienceMs: number): Promise<number | null>;
  /** What an answer tells: how much is left, and whether to be patient. */
  learn(uses: readonly QuotaUse[], api: Api, answer: { status: number; header(name: string): string | undefined }): void;
  left(uses: readonly QuotaUse[]): Promise<QuotaLeft[]>;
  /** What this replica leased of an open window and has not spent. */
  unspent(scope: string): number;
  /** Gives back what was leased and not spent: the service stops. */
  stop(): Promise<void>;
}

const MAX_WAITING = 2_000;
const CORRECT_EVERY_MS = 1_000;
const MAX_PATIENCE_MS = 3_600_000;
/** Answers of one moment ask for nearly the same: they are sent once. */
const HELD_ALIKE_MS = 1_000;

export function quotas(deps: {
  store: QuotaStore;
  changes: Pick<Changes, 'announce' | 'onChange'>;
  ports: Pick<Ports, 'clock' | 'log' | 'random' | 'sleep'>;
}): Quotas {
  const { store, changes, ports } = deps;
  const leases = quotaLeases({ store, ports });
  const { stateOf, tryTake } = leases;
  let waiting = 0;

  /** Nobody asks before then, on any replica. */
  const hold = (scope: string, until: number, state: HeldWindow): void => {
    if (until <= state.heldUntil + HELD_ALIKE_MS) return;
    state.heldUntil = until;
    const told = async (): Promise<void> => {
      await store.hold({ scope, startAt: state.startAt }, until);
      await changes.announce('quota', `${scope} ${until}`);
    };
    void told().catch((cause: unknown) =>
      ports.log.debug(
        { event: 'quota.wait_not_passed_on', cause: String(cause) },
        'a wait that the provider requested was not passed on to the other replicas',
      ),
    );
  };
  changes.onChange((kind, subject) => {
    if (kind !== 'quota') return;
    const [scope = '', until] = subject.split(' ');
    const state = leases.known(scope);
    if (state) state.heldUntil = Math.max(state.heldUntil, Number(until));
  });
  return {
    takeLeased: leases.takeLeased,
    usesOf(call) {
      const { api, share } = call;
      return api.quota.flatMap((quota) => {
        const whose = quota.of === 'client' ? call.clientRecordId : call.connectionId;
        const scope = `${quota.of}:${whose}:${api.name}:${quota.window}:${quota.unit}`;
        const cost = weightOf(api, quota.unit, call.method, call.path);
        const whole: QuotaUse = { scope, quota, most: quota.most, cost };
        return share === null || call.callerId === null
          ? [whole]
          : [whole, { scope: `${scope}:${call.callerId}`, quota, most: Math.max(1, Math.floor((quota.most * share) / 100)), cost }];
      });
    },
    async take(uses, patienceMs) {
      const startedAt = ports.clock.now();
      let until = await tryTake(uses);
      if (until === 0) return null;
      for (let waits = 0; until !== 0; waits += 1) {
        const now = ports.clock.now();
        if (until - startedAt > patienceMs || waiting >= MAX_WAITING || waits > 50) return Math.max(1, until - now);
        waiting += 1;
        try {
          // Spread over a moment, so that all who waited do not come in one millisecond.
          await ports.sleep(Math.max(1, until - now) + ports.random.unit() * 100);
        } finally {
          waiting -= 1;
        }
        until = await tryTake(uses);
      }
      return null;
    },
    learn(uses, api, answer) {
      const now = ports.clock.now();
      const [first] = uses; // the provider speaks of its first window, not of a caller's share
      const headers = { 'retry-after': answer.header('retry-after') ?? '', date: answer.header('date') ?? '' };
      const patienceMs = answer.status === 429 || answer.status === 503 ? retryAfter({ headers }) : null;
      if (first && patienceMs !== null && patienceMs > 0) hold(first.scope, now + Math.min(patienceMs, MAX_PATIENCE_MS), stateOf(first, now));
      const name = api.rate_headers?.left;
      if (!first || name === undefined) return;
      const told = Number(answer.header(name));
      if (!Number.isFinite(told) || told < 0 || answer.header(name) === undefined) return;
      const state = stateOf(first, now);
      const theirs = first.most - told;
      if (told < state.left) state.left = told;
      const ours = theirs + state.left;
      if (ours <= state.used || now - state.correctedAt < CORRECT_EVERY_MS) return;
      state.correctedAt = now;
      state.used = ours;
      void store
        .raise({ scope: first.scope, startAt: state.startAt }, Math.min(ours, first.most))
        .catch((cause: unknown) => ports.log.debug({ event: 'quota.not_corrected', cause: String(cause) }, 'quota not corrected'));
    },
    unspent: leases.unspent,
    stop: leases.giveBack,
    async left(uses) {
      const now = ports.clock.now();
      return Promise.all(
        uses.map(async (use) => {
          const { startAt, endAt } = windowAt(use.quota, now);
          const row = await store.read({ scope: use.scope, startAt });
          const unspent = leases.known(use.scope);
          const mine = unspent && unspent.startAt === startAt ? unspent.left : 0;
          const until = Math.max(row?.heldUntil ?? 0, unspent?.heldUntil ?? 0);
          const { window, unit, of } = use.quota;
          return {
            window,
            unit,
            of,
            most: use.most,
            says: quotaInWords(use.quota, use.most),
            left: Math.max(0, use.most - (row?.used ?? 0) + mine),
            resets_at: endAt,
            held_until: until > now ? until : null,
          };
        }),
      );
    },
  };
}
