import fc from 'fast-check';
import { expect, test } from 'vitest';
import type { Dialect } from '../provider/definition.ts';
import { PLAIN_DIALECT } from '../provider/dialect.ts';
import { applyUpdate, type ConditionalUpdate } from './conditional-update.ts';
import { DEFAULT_LIMITS } from './limits.ts';
import { firstRow, type RenewalRow, rowState } from './row.ts';
import * as t from './transitions.ts';
import { cannotHold, type HolderSign, uncertainWaitMs } from './uncertain-wait.ts';

/**
 * A model of one grant, three replicas, the database and the provider, which runs the same transitions and the same waits as the
 * engine. Faults strike at any step: crash, freeze, database away, commit in doubt, answers lost, requests processed late.
 */
const LIMITS = DEFAULT_LIMITS;
const DEADLINE_MS = 20_000;
const LIFE_MS = 600_000;
const FLOOR_MS = 60_000;
type Kind = 'strict' | 'grace' | 'none';
const DIALECTS: Record<Kind, Dialect> = {
  strict: { ...PLAIN_DIALECT, rotation: 'each_use', reuse: 'kills_grant' },
  grace: { ...PLAIN_DIALECT, rotation: 'each_use', reuse: 'grace', reuse_grace_seconds: 30 },
  none: { ...PLAIN_DIALECT, rotation: 'never', reuse: 'kills_grant' },
};

interface Answer {
  attempt: t.Attempt;
  spent: number;
  refresh: number | null;
  sentAt: number;
}
interface Flight {
  by: Replica;
  life: string;
  attempt: t.Attempt;
  spent: number;
  sentAt: number;
  /** `gone`: nothing will come any more; the sender's socket shows it, if it still listens. */
  phase: 'to_provider' | 'answered' | 'gone';
  answer: Answer | 'refused' | null;
}
interface Replica {
  name: string;
  lives: number;
  up: boolean;
  frozen: boolean;
  attempt: t.Attempt | null;
  flight: Flight | null;
  unsaved: Answer[];
  spill: Answer[];
  beatenAt: number;
  contactSince: number;
  openedAt: number | null;
}

class World {
  now = 1_000_000;
  databaseUp = true;
  /** The next commit is made, and nobody hears of it. */
  doubt = false;
  row: RenewalRow;
  refresh = 1;
  spares: Answer[] = [];
  signs = new Map<string, HolderSign & { instance: string; life: number }>();
  flights: Flight[] = [];
  valid = new Set([1]);
  replacedAt = new Map<number, number>();
  tokens = 1;
  grantDead = false;
  renewals = 0;
  violations: string[] = [];
  /** Refresh tokens that reached us and were not lost with a process's memory. */
  received = new Set([1]);
  /** A second use after the holder wait: allowed, and counted apart. */
  declared = false;
  readonly kind: Kind;
  readonly replicas: Replica[];

  constructor(kind: Kind) {
    this.kind = kind;
    this.row = firstRow({ issuedAt: this.now, expiresAt: this.now + LIFE_MS }, this.now);
    this.replicas = ['r1', 'r2', 'r3'].map((name) => ({
      name,
      lives: 1,
      up: true,
      frozen: false,
      attempt: null,
      flight: null,
      unsaved: [],
      spill: [],
      beatenAt: this.now,
      contactSince: this.now,
      openedAt: null,
    }));
  }

  life = (r: Replica) => `${r.name}.${r.lives}`;

  /** True when it took hold, and then `along` happens in the same commit; null while the database is away, or when the commit's acknowledgement is lost. */
  update(transition: ConditionalUpdate, along: () => void = () => undefined): boolean | null {
    if (!this.databaseUp) return null;
    const after = applyUpdate(transition, this.row, this.now);
    if (after) {
      this.row = after;
      along();
    }
    const inDoubt = this.doubt;
    this.doubt = false;
    return inDoubt ? null : after !== null;
  }

  beat(r: Replica): void {
    if (!this.databaseUp) return;
    const open = [r.openedAt, ...r.unsaved.map((one) => one.sentAt)].filter((at): at is number => at !== null);
    this.signs.set(this.life(r), {
      seenAt: this.now,
      openSince: open.length > 0 ? Math.min(...open) : null,
      succeeded: false,
      instance: r.name,
      life: r.lives,
    });
    if (this.now - r.beatenAt > LIMITS.silentMs) r.contactSince = this.now;
    r.beatenAt = this.now;
  }

  waitFor(r: Replica, row: Pick<RenewalRow, 'sentAt' | 'sentBy' | 'uncertainBy' | 'uncertainSince' | 'expiresAt'>): { waitMs: number; nobodyHolds: boolean } {
    const sentAt = row.sentAt ?? this.now;
    const others = [row.sentBy, row.uncertainBy].filter((life): life is string => life !== null && life !== this.life(r));
    const nobodyHolds = others.every((life) => {
      const sign = this.signs.get(life) ?? null;
      return cannotHold(sign, sentAt, LIMITS);
    });
    const contactSince = this.now - r.beatenAt > LIMITS.silentMs ? this.now : r.contactSince;
    const use = { since: row.uncertainSince ?? sentAt, sentAt, nobodyHolds, contactSince, expiresAt: row.expiresAt, floorMs: FLOOR_MS };
    return { waitMs: uncertainWaitMs(DIALECTS[this.kind], use, this.now, { limits: LIMITS, deadlineMs: DEADLINE_MS }), nobodyHolds };
  }

  /** One natural step of a replica. */
  step(r: Replica): void {
    if (!r.up || r.frozen) return;
    this.beat(r);
    if (r.unsaved.length > 0) return this.save(r);
    if (r.flight) return this.listen(r);
    if (r.attempt) return this.send(r);
    const claimId = `${this.life(r)}@${this.now}`;
    const owner = this.row.owner === this.life(r) ? null : this.row.owner;
    const sign = owner === null ? undefined : this.signs.get(owner);
    const isDead = sign?.succeeded === true;
    const isSilent = owner !== null && this.now - (sign?.seenAt ?? 0) > LIMITS.silentMs;
    const isSafe = isDead ? this.row.sentEpoch === null || this.kind !== 'strict' : isSilent && this.kind === 'grace';
    const taken =
      this.update(t.claim(this.life(r), claimId, LIMITS)) ||
      (isSafe && owner !== null && this.update(t.takeOver(this.life(r), claimId, LIMITS, { owner, isDead })));
    if (taken) {
      r.attempt = { me: this.life(r), claimId, epoch: this.row.epoch, generation: this.row.generation };
      r.openedAt = this.now;
    }
  }

  send(r: Replica): void {
    const attempt = r.attempt as t.Attempt;
    if (!this.databaseUp || this.row.claimId !== attempt.claimId) return this.done(r);
    if (this.row.sentEpoch !== null || this.row.uncertainSince !== null) {
      const { waitMs, nobodyHolds } = this.waitFor(r, this.row);
      if (waitMs > 0) {
        this.update(t.uncertain(attempt, waitMs, nobodyHolds));
        return this.done(r);
      }
    }
    if (this.kind !== 'none' && this.update(t.arm(attempt, LIMITS, DEADLINE_MS)) !== true) {
      this.update(t.giveBack(attempt, 1_000, null));
      return this.done(r);
    }
    this.checkSecondUse(r, this.refresh);
    r.flight = { by: r, life: this.life(r), attempt, spent: this.refresh, sentAt: this.now, phase: 'to_provider', answer: null };
    this.flights.push(r.flight);
  }

  /** The rule that must hold: no second use while someone holds the answer, unless the holder wait is over. */
  checkSecondUse(r: Replica, token: number): void {
    if (this.kind !== 'strict') return;
    const held = [
      ...this.flights.filter((one) => one.spent === token && one.phase !== 'gone' && one.by.up && one.by.flight === one).map((one) => one.sentAt),
      ...this.replicas
        .flatMap((one) => [...(one.up ? one.unsaved : []), ...one.spill])
        .filter((one) => one.spent === token && one.refresh !== null)
        .map((one) => one.sentAt),
    ];
    if (held.some((sentAt) => this.now - sentAt >= LIMITS.holderWaitMs)) this.declared = true;
    for (const sentAt of held)
      if (this.now - sentAt < LIMITS.holderWaitMs)
        this.violations.push(`${r.name} used token ${token} again ${this.now - sentAt} ms after a use whose answer is held`);
  }

  listen(r: Replica): void {
    const flight = r.flight as Flight;
    const { attempt } = flight;
    if (flight.phase === 'answered' && flight.answer === 'refused') {
      const spare = this.spares.at(-1);
      if (spare && this.databaseUp) {
        const promote = t.promote(attempt, { issuedAt: spare.sentAt, expiresAt: spare.sentAt + LIFE_MS }, spare.attempt.generation);
        const use = () => {
          this.refresh = spare.refresh ?? this.refresh;
        };
        if (this.update(promote, use)) this.spares.pop();
      } else this.update(this.row.refusedAt === null ? t.askOnceMore(attempt, LIMITS) : t.actionNeeded(attempt));
      return this.done(r);
    }
    if (flight.phase === 'answered') {
      const answer = flight.answer as Answer;
      r.unsaved.push(answer);
      if (answer.refresh !== null) this.received.add(answer.refresh);
      if (this.kind === 'strict') r.spill.push(answer);
      return this.done(r);
    }
    if (flight.phase === 'to_provider' && this.now - flight.sentAt < DEADLINE_MS) return;
    const { waitMs, nobodyHolds } = this.waitFor(r, {
      ...this.row,
      sentAt: flight.sentAt,
      sentBy: null,
      uncertainSince: this.row.uncertainSince ?? flight.sentAt,
    });
    this.update(this.kind === 'none' ? t.release(attempt, 1_000, 'unclear') : t.uncertain(attempt, Math.max(waitMs, 1_000), nobodyHolds));
    this.done(r);
  }

  done(r: Replica): void {
    [r.attempt, r.flight, r.openedAt] = [null, null, null];
  }

  save(r: Replica): void {
    const answer = r.unsaved[0] as Answer;
    const transition = t.save(answer.attempt, { issuedAt: answer.sentAt, expiresAt: answer.sentAt + LIFE_MS }, this.now + LIFE_MS / 2);
    const saved = this.update(transition, () => {
      this.refresh = answer.refresh ?? this.refresh;
      this.spares = this.spares.filter((spare) => spare.attempt.generation >= answer.attempt.generation);
      this.renewals += 1;
    });
    if (saved === null) return; // the database is away, or says nothing: it stays
    if (!saved && this.row.savedEpoch !== answer.attempt.epoch && answer.refresh !== null && (this.row.parentGeneration ?? 0) <= answer.attempt.generation) {
      this.spares.push(answer);
      this.update(t.verifyNow());
    }
    r.unsaved.shift();
    r.spill = r.spill.filter((one) => one !== answer);
  }

  /** The provider takes the oldest request that can still be processed; also one that its sender has given up. */
  provide(late: boolean): void {
    const flight = this.flights.find((one) => one.phase === 'to_provider' && (late || one.by.flight === one) && this.now - one.sentAt < LIMITS.leaseMs);
    if (!flight) return;
    flight.answer = this.use(flight);
    flight.phase = flight.by.flight === flight && flight.by.up ? 'answered' : 'gone';
  }

  use(flight: Flight): Answer | 'refused' {
    const { spent, attempt, sentAt } = flight;
    if (this.grantDead) return 'refused';
    if (this.kind === 'none') return { attempt, spent, refresh: null, sentAt };
    const replaced = this.replacedAt.get(spent);
    if (replaced !== undefined && this.kind === 'strict') this.grantDead = true;
    if (this.grantDead || (replaced !== undefined && this.now - replaced > 30_000) || !(this.valid.has(spent) || replaced !== undefined)) return 'refused';
    if (replaced === undefined) {
      this.valid.delete(spent);
      this.replacedAt.set(spent, this.now);
    }
    this.tokens += 1;
    this.valid.add(this.tokens);
    return { attempt, spent, refresh: this.tokens, sentAt };
  }

  lose(): void {
    const flight = this.flights.find((one) => one.phase !== 'gone');
    if (flight) flight.phase = 'gone';
  }

  crash(r: Replica): void {
    if (!r.up) return;
    for (const flight of this.flights) if (flight.by === r && flight.phase === 'answered') flight.phase = 'gone';
    for (const lost of r.unsaved) if (lost.refresh !== null && !r.spill.includes(lost)) this.received.delete(lost.refresh);
    [r.up, r.frozen, r.unsaved] = [false, false, []];
    this.done(r);
  }

  /** T10. */
  restart(r: Replica): void {
    if (r.up || !this.databaseUp) return;
    const former = this.life(r);
    r.lives += 1;
    [r.up, r.beatenAt, r.contactSince] = [true, this.now, this.now];
    r.unsaved = [...r.spill];
    while (r.unsaved.length > 0) this.save(r);
    const { row } = this;
    const theirs = [row.owner, row.sentBy].includes(former) && (row.sentEpoch !== null || row.uncertainSince !== null || row.leaseUntil !== null);
    if (theirs && row.nextAt !== null) {
      const sentAt = row.sentAt ?? this.now;
      const sent = row.sentEpoch !== null || row.uncertainSince !== null;
      const use = { since: row.uncertainSince ?? sentAt, sentAt, nobodyHolds: true, contactSince: this.now, expiresAt: row.expiresAt, floorMs: FLOOR_MS };
      this.update(t.recover(sent ? uncertainWaitMs(DIALECTS[this.kind], use, this.now, { limits: LIMITS, deadlineMs: DEADLINE_MS }) : 0));
    }
    for (const [life, sign] of this.signs) if (sign.instance === r.name && sign.life < r.lives) this.signs.set(life, { ...sign, succeeded: true });
    this.beat(r);
  }
}

const ACTS = [
  'step1',
  'step2',
  'step1',
  'step2',
  'provide',
  'provide',
  'late',
  'lose',
  'crash1',
  'crash2',
  'restart1',
  'restart2',
  'freeze1',
  'thaw1',
  'freeze2',
  'thaw2',
  'step3',
  'step3',
  'crash3',
  'restart3',
  'freeze3',
  'thaw3',
  'doubt',
  'down',
  'up',
] as const;
const steps = fc.array(fc.record({ act: fc.constantFrom(...ACTS), afterMs: fc.constantFrom(0, 50, 500, 3_000, 12_000, 25_000, 70_000) }), { maxLength: 60 });

function act(world: World, name: (typeof ACTS)[number]): void {
  const r = world.replicas[Math.max(0, Number(/\d$/.exec(name)?.[0] ?? 1) - 1)] as Replica;
  switch (name.replace(/\d$/, '')) {
    case 'step':
      return world.step(r);
    case 'provide':
      return world.provide(false);
    case 'late':
      return world.provide(true);
    case 'lose':
      return world.lose();
    case 'doubt':
      world.doubt = true;
      return;
    case 'crash':
      return world.crash(r);
    case 'restart':
      return world.restart(r);
    case 'freeze':
    case 'thaw':
      r.frozen = name.startsWith('freeze');
      return;
    default:
      world.databaseUp = name === 'up';
  }
}

/** Everything comes back; then the world runs on for as long as any wait may take. */
function settle(world: World): void {
  [world.databaseUp, world.doubt] = [true, false];
  for (const r of world.replicas) {
    r.frozen = false;
    world.restart(r);
  }
  for (let round = 0; round < 400; round += 1) {
    world.now += 3_000;
    for (const r of world.replicas) {
      world.step(r);
      world.provide(false);
    }
  }
}

test.each(['strict', 'grace', 'none'] as const)(
  '%s: whatever crashes, freezes or is lost, no answer that is held is endangered, and what can be recovered is',
  (kind) => {
    fc.assert(
      fc.property(steps, (sequence) => {
        const world = new World(kind);
        for (const step of sequence) {
          world.now += step.afterMs;
          act(world, step.act);
        }
        settle(world);
        expect(world.violations).toEqual([]);
        const state = rowState(world.row, world.now);
        expect(['idle', 'claimed', 'sent', 'action_needed']).toContain(state);
        const ours = [world.refresh, ...world.spares.map((one) => one.refresh)];
        const recoverable = !world.grantDead && (kind === 'none' || ours.some((token) => token !== null && world.valid.has(token)));
        if (state === 'action_needed' && kind === 'strict' && !world.declared) expect(world.received.has(world.tokens)).toBe(false); // the newest one never reached us
        if (state === 'action_needed') expect([recoverable, world.row.cause]).toEqual([false, expect.stringMatching(/^(lost_in_flight|refused)$/)]);
        else {
          const before = world.renewals;
          settle(world);
          expect(world.renewals).toBeGreaterThan(before); // it goes on renewing
        }
        if (kind === 'none') expect(state).not.toBe('action_needed');
      }),
      { numRuns: Number(process.env.MODEL_RUNS ?? 1_500) },
    );
  },
);

test('without a fault, a thousand steps lose nothing, for any provider', () => {
  for (const kind of ['strict', 'grace', 'none'] as const) {
    const world = new World(kind);
    settle(world);
    expect([world.violations, world.renewals > 2, world.grantDead]).toEqual([[], true, false]);
  }
});
