import fc from 'fast-check';
import { expect, test } from 'vitest';
import { applyUpdate } from './conditional-update.ts';
import { judgeAnswer, lostSaves, type Mark, stillMissing } from './ground.ts';
import { DEFAULT_LIMITS } from './limits.ts';
import { firstRow, type RenewalRow } from './row.ts';
import * as t from './transitions.ts';

const mark = (instance: string, inDatabase: number, reported: number): Mark => ({ instance, mark: inDatabase, reported });

test.each([
  { name: 'as many as are known', marks: [mark('a', 5, 5)], remembered: { a: 5 }, lost: [] },
  { name: 'more than are known: the last acknowledgement is on its way', marks: [mark('a', 6, 5)], remembered: { a: 4 }, lost: [] },
  { name: 'fewer than it reported', marks: [mark('a', 4, 5), mark('b', 9, 9)], remembered: {}, lost: ['a'] },
  { name: 'fewer than somebody saw', marks: [mark('a', 4, 4)], remembered: { a: 5 }, lost: ['a'] },
  { name: 'a replica that the database does not know', marks: [], remembered: { a: 1 }, lost: ['a'] },
])('marks: $name', ({ marks, remembered, lost }) => expect(lostSaves(marks, new Map(Object.entries(remembered)))).toEqual(lost));

test.each([
  { name: 'an older generation', row: { generation: 3, ended: false }, kept: { generation: 5, isFirstKnown: false }, judged: 'put_back' },
  { name: 'the same', row: { generation: 5, ended: false }, kept: { generation: 5, isFirstKnown: true }, judged: 'present' },
  { name: 'a newer one', row: { generation: 6, ended: false }, kept: { generation: 5, isFirstKnown: false }, judged: 'present' },
  { name: 'an ended grant', row: { generation: 3, ended: true }, kept: { generation: 5, isFirstKnown: true }, judged: 'ended' },
  { name: 'no grant, its consent known', row: null, kept: { generation: 5, isFirstKnown: true }, judged: 'restore' },
  { name: 'no grant', row: null, kept: { generation: 5, isFirstKnown: false }, judged: 'unknown' },
])('in the database: $name', ({ row, kept, judged }) => expect(judgeAnswer(row, kept)).toBe(judged));

test('a put-back never lets an epoch fall, and leaves nothing of the time that was lost', () => {
  const row: RenewalRow = {
    ...firstRow({ issuedAt: 1, expiresAt: 2 }, 5),
    epoch: 7,
    sentEpoch: 7,
    sentBy: 'x',
    uncertainSince: 3,
    leaseUntil: 9_999,
    owner: 'x',
    failures: 2,
  };
  const back = applyUpdate(t.putBack({ epoch: 4, generation: 3 }, { issuedAt: 10, expiresAt: 20 }, 15), row, 100);
  expect(back).toMatchObject({ generation: 3, epoch: 7, sentEpoch: null, uncertainSince: null, leaseUntil: null, owner: null, failures: 0, nextAt: 15 });
  expect(applyUpdate(t.putBack({ epoch: 9, generation: 0 }, { issuedAt: 10, expiresAt: 20 }, 15), row, 100)).toBeNull();
});

/**
 * Replicas, strict grants and a database that goes back to an earlier moment, at any step: what a replica knows of marks, who waits for whom, and
 * what is put back are decided by the functions above, and rows change by the protocol's own transitions.
 */
const GRANTS = 2;
const REPLICAS = ['a', 'b', 'c'];
interface Stored {
  rows: RenewalRow[];
  tokens: number[];
  marks: Record<string, number>;
  reported: Record<string, number>;
  loss: { lost: string[]; reports: string[] } | null;
}
interface Replica {
  name: string;
  up: boolean;
  known: number;
  others: Map<string, number>;
  state: 'firm' | 'looking' | 'lost';
  /** Others that were there before the break, and were not seen since. */
  awaited: Set<string>;
  newest: Map<number, { epoch: number; generation: number; token: number }>;
  flights: { grant: number; attempt: t.Attempt; token: number }[];
}
const copy = <T>(value: T): T => structuredClone(value);

class World {
  now = 1_000_000;
  stored: Stored = {
    rows: Array.from({ length: GRANTS }, () => firstRow({ issuedAt: 0, expiresAt: 1 }, 0)),
    tokens: Array.from({ length: GRANTS }, () => 1),
    marks: Object.fromEntries(REPLICAS.map((name) => [name, 0])),
    reported: Object.fromEntries(REPLICAS.map((name) => [name, 0])),
    loss: null,
  };
  earlier: Stored[] = [copy(this.stored)];
  valid = Array.from({ length: GRANTS }, () => 1);
  secondUses = 0;
  renewals = 0;
  replicas: Replica[] = REPLICAS.map((name) => ({
    ...{ name, up: true, known: 0, others: new Map(), state: 'firm' as const, awaited: new Set<string>(), newest: new Map(), flights: [] },
  }));

  marks = (): Mark[] => REPLICAS.map((name) => mark(name, this.stored.marks[name] ?? 0, this.stored.reported[name] ?? 0));

  /** A heartbeat, and a look at all marks. */
  look(r: Replica): void {
    if (!r.up) return;
    this.stored.reported[r.name] = Math.max(this.stored.reported[r.name] ?? 0, r.known);
    for (const other of this.replicas) other.awaited.delete(r.name);
    const lost = lostSaves(this.marks(), new Map([...r.others, [r.name, r.known]]));
    if (lost.length > 0) {
      this.stored.loss ??= { lost: [], reports: [] };
      this.stored.loss.lost = [...new Set([...this.stored.loss.lost, ...lost])];
    }
    const { loss } = this.stored;
    if (loss === null) {
      if (r.awaited.size > 0) return;
      r.others = new Map(REPLICAS.filter((name) => name !== r.name).map((name) => [name, this.stored.marks[name] ?? 0]));
      r.state = 'firm';
      return;
    }
    r.state = 'lost';
    if (r.flights.length > 0) return; // what is under way belongs to what is put back
    if (!loss.reports.includes(r.name)) {
      for (const [grant, answer] of r.newest) this.putBack(grant, answer);
      this.stored.marks[r.name] = Math.max(this.stored.marks[r.name] ?? 0, r.known);
      loss.reports.push(r.name);
    }
    const running = this.replicas.filter((one) => one.up).map((one) => one.name);
    if (stillMissing({ lost: loss.lost, running, reported: loss.reports }).length === 0) this.stored.loss = null;
  }
  putBack(grant: number, answer: { epoch: number; generation: number; token: number }): void {
    const row = this.stored.rows[grant] as RenewalRow;
    if (judgeAnswer(row, { generation: answer.generation, isFirstKnown: false }) !== 'put_back') return;
    const after = applyUpdate(t.putBack(answer, { issuedAt: 0, expiresAt: 1 }, this.now), row, this.now);
    if (after) [this.stored.rows[grant], this.stored.tokens[grant]] = [after, answer.token];
  }
  /** T1 to T3. */
  begin(r: Replica, grant: number): void {
    if (!r.up || r.state !== 'firm' || r.flights.some((one) => one.grant === grant)) return;
    const wanted = r.known + [...r.others.values()].reduce((sum, one) => sum + one, 0);
    if (Object.values(this.stored.marks).reduce((sum, one) => sum + one, 0) < wanted) return;
    const claimed = applyUpdate(t.claim(r.name, `${r.name}${this.now}`, DEFAULT_LIMITS), this.stored.rows[grant] as RenewalRow, this.now);
    if (!claimed || claimed.sentEpoch !== null) return; // what was sent before waits for its holder: the other model's business
    const attempt = { me: r.name, claimId: claimed.claimId ?? '', epoch: claimed.epoch, generation: claimed.generation };
    const armed = applyUpdate(t.arm(attempt, DEFAULT_LIMITS, 1_000), claimed, this.now);
    if (!armed) return;
    this.stored.rows[grant] = armed;
    this.stored.marks[r.name] = (this.stored.marks[r.name] ?? 0) + 1;
    r.known += 1;
    const spent = this.stored.tokens[grant] ?? 0;
    if (spent !== this.valid[grant]) this.secondUses += 1;
    this.valid[grant] = this.now * 10 + grant;
    r.flights.push({ grant, attempt, token: this.valid[grant] ?? 0 });
  }
  /** T4. */
  finish(r: Replica): void {
    const flight = r.up ? r.flights.shift() : undefined;
    if (!flight) return;
    const { grant, attempt, token } = flight;
    r.newest.set(grant, { epoch: attempt.epoch, generation: attempt.generation + 1, token });
    const after = applyUpdate(t.save(attempt, { issuedAt: 0, expiresAt: 1 }, this.now), this.stored.rows[grant] as RenewalRow, this.now);
    if (!after) return;
    [this.stored.rows[grant], this.stored.tokens[grant]] = [after, token];
    this.stored.marks[r.name] = (this.stored.marks[r.name] ?? 0) + 1;
    r.known += 1;
    this.renewals += 1;
  }
  /** Every replica meets the break: its connections were to the database that is gone. */
  goBack(to: number): void {
    this.stored = copy(this.earlier[to % this.earlier.length] as Stored);
    for (const r of this.replicas) {
      if (!r.up) continue;
      r.state = 'looking';
      r.awaited = new Set(this.replicas.filter((one) => one.up && one !== r).map((one) => one.name));
    }
  }
}

const act = fc.oneof(
  { weight: 4, arbitrary: fc.record({ kind: fc.constant('begin' as const), replica: fc.nat(2), grant: fc.nat(GRANTS - 1) }) },
  { weight: 4, arbitrary: fc.record({ kind: fc.constantFrom('finish' as const, 'look' as const), replica: fc.nat(2), grant: fc.constant(0) }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constantFrom('remember' as const, 'back' as const), replica: fc.nat(20), grant: fc.constant(0) }) },
);

test('wherever the database goes back to, no token is spent twice, and once everybody has put back what it has, renewals go on', () => {
  fc.assert(
    fc.property(fc.array(act, { maxLength: 80 }), (acts) => {
      const world = new World();
      for (const { kind, replica, grant } of acts) {
        world.now += DEFAULT_LIMITS.leaseMs + 1; // no lease stands in the way of a wrong claim
        const r = world.replicas[replica % 3] as Replica;
        if (kind === 'begin') world.begin(r, grant);
        else if (kind === 'finish') world.finish(r);
        else if (kind === 'look') world.look(r);
        else if (kind === 'remember') world.earlier.push(copy(world.stored));
        else world.goBack(replica);
        expect(world.secondUses).toBe(0);
      }
      for (let round = 0; round < 4; round += 1)
        for (const r of world.replicas) {
          while (r.flights.length > 0) world.finish(r);
          world.look(r);
        }
      const before = world.renewals;
      for (let grant = 0; grant < GRANTS; grant += 1) {
        world.now += DEFAULT_LIMITS.leaseMs + 1;
        const r = world.replicas[grant] as Replica;
        world.begin(r, grant);
        world.finish(r);
      }
      expect([world.secondUses, world.renewals - before]).toEqual([0, GRANTS]);
    }),
    { numRuns: Number(process.env.MODEL_RUNS ?? 1_500) },
  );
});
