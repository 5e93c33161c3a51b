import { randomBytes, randomUUID } from 'node:crypto';
import { expect, test } from 'vitest';
import type { Send } from '../../core/oauth/wire.ts';
import { Secret } from '../../core/secret.ts';
import type { SpilledAnswer } from '../renewal/index.ts';
import { type Fence, fence } from './fence.ts';

const KEY = randomBytes(32);
const GRANT = randomUUID();
const ORIGIN = 'https://kettle.example';
const ROUND_MS = 15_000;

/** An installation with one grant of a provider that rotates strictly. It renews in each round in which it is not on hold. */
interface Installation {
  name: string;
  url: string;
  /** How its clock differs, ms. */
  clockMs: number;
  row: { generation: number; restoreId: string | null; moves: boolean; owned: boolean; held: boolean; formerUrl: string | null };
  successor: { restore: string; generation: number } | null;
  token: { value: number; generation: number };
  fence: Fence;
  seen: number;
  /** It looks for others once. */
  round(): Promise<void>;
}

/** Installations that are copies of each other, the network between them, and the provider, which counts second uses. */
function world() {
  const all: Installation[] = [];
  const [provider, unreachable] = [{ current: 0, made: 0, reuses: 0 }, new Set<string>()];
  const send: Send = async ({ url, body }) => {
    const { origin, pathname } = new URL(url);
    // At one address one of those that share it answers: the one that came last.
    const other = all.findLast((one) => one.url === origin);
    if (!other || unreachable.has(origin)) return { kind: 'unsent', reason: 'refused', tookMs: 1 };
    const message = JSON.parse(body ?? 'null');
    const answer = pathname === '/fence' ? await other.fence.answer(message) : await other.fence.transfer(message);
    return { kind: 'answer', status: answer === null ? 404 : 200, headers: {}, body: JSON.stringify(answer), cut: false, tookMs: 1 };
  };
  const add = (name: string, of: Pick<Installation, 'url' | 'clockMs' | 'row' | 'token'>): Installation => {
    const one: Installation = { name, ...of, successor: null, fence: null as never, seen: 0, round: async () => undefined };
    let stopRound = (): void => undefined;
    one.fence = fence({
      ...{ key: KEY, publicUrl: one.url, send, idle: async () => undefined, isBusy: async () => false },
      history: { add: () => undefined } as never,
      ports: {
        clock: { now: () => 1_800_000_000_000 + one.clockMs },
        random: { unit: () => 0.5, bytes: (count) => new Uint8Array(randomBytes(count)) },
        log: { debug: () => undefined, info: () => undefined, warn: () => undefined, error: () => undefined, isLevelEnabled: () => false },
        sleep: async (ms) => (ms === ROUND_MS ? stopRound() : undefined),
      },
      store: {
        read: async () => ({
          ...{ installationId: 'origin', generation: one.row.generation, restoreId: one.row.restoreId, held: one.row.held, moves: one.row.moves },
          ...{ ownedAt: one.row.owned ? 1 : null, formerUrl: one.row.formerUrl },
          ...{ successorRestore: one.successor?.restore ?? null, successorGeneration: one.successor?.generation ?? null },
        }),
        giveWay: async (generation: number, restore: string) => {
          if ((one.successor?.generation ?? 0) < generation) one.successor = { generation, restore };
        },
      } as never,
      hold: {
        hold: async () => {
          one.row.held = true;
        },
        noteGeneration: (generation: number) => {
          one.seen = Math.max(one.seen, generation);
        },
        own: async () => {
          Object.assign(one.row, { held: false, owned: true, generation: Math.max(one.row.generation, one.seen + 1) });
        },
      } as never,
      newest: async () => ({
        next: null,
        answers: [
          {
            ...{ grantId: GRANT, epoch: 1, generation: one.token.generation, life: { issuedAt: 0, expiresAt: 1 } },
            tokens: { access: new Secret('a'), refresh: new Secret(String(one.token.value)), lifeMs: 1, scopes: null },
          } as SpilledAnswer,
        ],
      }),
      putBack: async ([answer]) => {
        if (!answer || answer.generation <= one.token.generation) return { putBack: 0, unknown: 0 };
        one.token = { value: Number(answer.tokens.refresh?.reveal()), generation: answer.generation };
        return { putBack: 1, unknown: 0 };
      },
    });
    all.push(one);
    one.round = async () => {
      const stop = new AbortController();
      stopRound = () => stop.abort();
      await one.fence.run(stop.signal);
    };
    return one;
  };
  const rounds = async (count: number): Promise<void> => {
    for (let round = 0; round < count; round += 1)
      for (const one of all) {
        await one.round();
        if (one.row.held) continue;
        if (one.token.value !== provider.current) provider.reuses += 1;
        provider.made += 1;
        provider.current = provider.made;
        one.token = { value: provider.current, generation: one.token.generation + 1 };
      }
  };
  return {
    ...{ all, provider, unreachable, rounds },
    origin: () =>
      add('origin', {
        ...{ url: ORIGIN, clockMs: 0, token: { value: 0, generation: 1 } },
        row: { generation: 1, restoreId: null, moves: false, owned: false, held: false, formerUrl: null },
      }),
    /** Restores what `from` has now. */
    copy: (name: string, from: Installation, { moves = false, url = `https://${name}.example`, clockMs = 0 } = {}) =>
      add(name, {
        ...{ url, clockMs, token: { ...from.token } },
        row: { generation: from.row.generation + 1, restoreId: randomUUID(), moves, owned: false, held: true, formerUrl: from.url },
      }),
    goingOn: () => all.filter((one) => !one.row.held).map((one) => one.name),
    /** An operator says that this one owns the grants, as the API does. */
    own: async (one: Installation) => {
      await one.fence.moveHere();
      Object.assign(one.row, { held: false, owned: true, generation: Math.max(one.row.generation, one.seen + 1) });
    },
  };
}
type World = ReturnType<typeof world>;

test.each<[what: string, goesOn: string[], play: (w: World, origin: Installation) => Promise<void>]>([
  ['a copy beside its original', ['origin'], async (w, origin) => void w.copy('drill', origin)],
  ['a move: the original stops, and transfers what is newer than the backup', ['moved'], async (w, origin) => void w.copy('moved', origin, { moves: true })],
  [
    'an old backup, moved',
    ['moved'],
    async (w, origin) => {
      const moved = w.copy('moved', origin, { moves: true });
      w.all.pop();
      await w.rounds(5);
      w.all.push(moved);
    },
  ],
  [
    'an operator moves the grants to a copy',
    ['taken'],
    async (w, origin) => {
      const taken = w.copy('taken', origin);
      await w.rounds(2);
      await w.own(taken);
    },
  ],
  [
    'a copy at the address of the original, which is not reached any more',
    [],
    async (w, origin) => {
      w.all.pop();
      w.copy('there', origin, { url: ORIGIN });
    },
  ],
  [
    'two copies at one address',
    [],
    async (w, origin) => {
      w.all.pop();
      for (const name of ['first', 'second']) w.copy(name, origin, { url: ORIGIN, moves: true });
    },
  ],
  [
    'three copies of one backup that was made to move: the first one has it',
    ['first'],
    async (w, origin) => {
      for (const name of ['first', 'second', 'third']) w.copy(name, origin, { moves: true });
    },
  ],
  [
    'a copy of a copy',
    ['copy'],
    async (w, origin) => {
      const copy = w.copy('copy', origin, { moves: true });
      await w.rounds(3);
      w.copy('copy-of-it', copy);
    },
  ],
  [
    'a copy of a copy, moved again',
    ['again'],
    async (w, origin) => {
      const copy = w.copy('copy', origin, { moves: true });
      await w.rounds(3);
      w.copy('again', copy, { moves: true });
    },
  ],
  [
    'a moved copy without a network waits, and takes over when it has one',
    ['late'],
    async (w, origin) => {
      w.unreachable.add(ORIGIN);
      w.copy('late', origin, { moves: true });
      await w.rounds(4);
      expect(w.goingOn()).toEqual(['origin']);
      w.unreachable.clear();
    },
  ],
  [
    'clocks ten minutes apart: nobody is believed, the copy waits',
    ['origin'],
    async (w, origin) => void w.copy('apart', origin, { moves: true, clockMs: 600_000 }),
  ],
])('%s', async (_what, goesOn, play) => {
  const w = world();
  const origin = w.origin();
  await w.rounds(2);
  await play(w, origin);
  await w.rounds(4);
  expect([w.goingOn(), w.provider.reuses]).toEqual([goesOn, 0]);
});
