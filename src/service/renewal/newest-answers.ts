import { createHash } from 'node:crypto';
import { mkdirSync, renameSync } from 'node:fs';
import { join } from 'node:path';
import { ClassicLevel } from 'classic-level';
import { LRUCache } from 'lru-cache';
import type { MasterKey } from '../../core/sealing/master-key.ts';
import type { Secret } from '../../core/secret.ts';
import type { Ports } from '../ports.ts';
import { folderSeal } from './folder-seal.ts';
import { answerOf, answerText, type FirstAnswer, type SpilledAnswer } from './spill.ts';

/** What a replica knows of saves, beside the database. */
interface KnownSaves {
  /** Own ones that the database had acknowledged. */
  own: number;
  /** Marks of other replicas, as last seen. */
  others: Record<string, number>;
}
export interface NewestAnswer extends SpilledAnswer {
  /** The generation that the answer made, not the one that it spent. */
  generation: number;
  /** How the grant came about, where it was made within the time that is kept. */
  first?: FirstAnswer;
}

/**
 * T11: the newest answer of every grant that this replica renewed, in its data folder, sealed; one entry a grant. It is written in groups beside
 * the renewals, which do not wait for it: what is not written yet is in memory. Where the database goes back, what it lost comes back from here.
 */
export interface NewestAnswers {
  put(answer: NewestAnswer): void;
  /** Grants that were ended: what is here of them is not put back. */
  ended(grantIds: readonly string[]): void;
  /** Whether this is older than what this replica has: the database holds a token that was replaced. */
  isOutdated(grantId: string, present: { generation: number; issuedAt: number; refresh: Secret }): Promise<boolean>;
  /** The newest answer of one grant; null: none is kept. */
  of(grantId: string): Promise<NewestAnswer | null>;
  /** A secret or key that was entered or retired here, or a grant that was ended, as text; the last one of each ID counts. */
  keepEntered(id: string, text: string): void;
  allEntered(): AsyncGenerator<string>;
  /** What is known of saves is written with the next group. */
  knows(known: KnownSaves): void;
  /** As it was when the folder was opened. */
  known(): KnownSaves;
  /** All of them, those in memory too. */
  all(): AsyncGenerator<NewestAnswer>;
  /** Deletes what is older than is kept, and the oldest where there is too much. @returns how many are left */
  prune(): Promise<number>;
  /** Writes what is in memory. */
  flush(): Promise<void>;
  stop(): Promise<void>;
}

const FLUSH_MS = 200;
const AGAIN_MS = 5_000;
const MAX_WAITING = 100_000;
/** `at`, epoch ms, in clear before what is sealed: what is too old is found without opening it. */
const HEAD_BYTES = 8;
const STATE = 'state';
const [ANSWER, FIRST, ENTERED] = ['answer/', 'first/', 'entered/'];
const HOUR_MS = 3_600_000;

const MAX_SEEN = 100_000;
/** Identifies the newest answer of a grant; `refresh`: a hash, null where none is known. */
interface Seen {
  generation: number;
  issuedAt: number;
  refresh: string | null;
}
const NEVER: Seen = { generation: 0, issuedAt: 0, refresh: null };
const hashOf = (secret: Secret): string => createHash('sha256').update(secret.reveal()).digest('base64url').slice(0, 16);

type Level = ClassicLevel<string, Buffer>;
interface Entry {
  at: number;
  text: string;
  lacksRefresh?: boolean;
}
const withRefresh = (value: Entry, before: string): Entry => {
  const { refresh } = answerOf(before).tokens;
  const answer = answerOf(value.text);
  return refresh === null ? value : { at: value.at, text: answerText({ ...answer, tokens: { ...answer.tokens, refresh } }) };
};

interface NewestAnswersParts {
  folder: string;
  installationId: string;
  master: MasterKey;
  former: MasterKey | null;
  keptMs: number;
  bytesMost: number;
  ports: Pick<Ports, 'clock' | 'log' | 'random'>;
}

/** Opens the folder; one that cannot be read, or belongs to another installation, is set aside. */
export async function newestAnswers(parts: NewestAnswersParts): Promise<NewestAnswers> {
  const { ports, keptMs, bytesMost } = parts;
  const seal = folderSeal('answers/1', { table: 'answers', column: 'entry' }, parts);
  const path = join(parts.folder, 'answers');
  const { level, state } = await openLevel(parts, path, seal.open);
  /** What was looked up, so that a renewal seldom reads the folder. */
  const seen = new LRUCache<string, Seen>({ max: MAX_SEEN });
  // While the master key is changed both are known: afterwards only the new one is.
  if (parts.former)
    for await (const [key, value] of level.iterator()) {
      const sealed = value.subarray(HEAD_BYTES);
      if (seal.isFormer(sealed)) await level.put(key, Buffer.concat([value.subarray(0, HEAD_BYTES), seal.seal(key, seal.open(key, sealed))]));
    }
  /** What is not written yet; null: to be deleted. */
  const waiting = new Map<string, Entry | null>();
  let known: KnownSaves = { own: state?.own ?? 0, others: state?.others ?? {} };
  let isKnownWritten = true;
  let [isFailing, againAt] = [false, 0];

  /** An answer without a refresh token leaves the one before it in use. */
  const whole = async (key: string, value: Entry): Promise<Entry> => {
    if (!value.lacksRefresh) return value;
    const written = await level.get(key);
    return written === undefined ? value : withRefresh(value, seal.open(key, written.subarray(HEAD_BYTES)));
  };
  const entry = (key: string, { at, text }: Entry): Buffer => {
    const head = Buffer.alloc(HEAD_BYTES);
    head.writeBigUInt64BE(BigInt(Math.max(0, Math.floor(at))));
    return Buffer.concat([head, seal.seal(key, text)]);
  };
  const write = async (): Promise<void> => {
    if (waiting.size === 0 && isKnownWritten) return;
    const group = [...waiting];
    const saves = known;
    isKnownWritten = true;
    const state = { at: ports.clock.now(), text: JSON.stringify({ installation: parts.installationId, ...saves }) };
    try {
      const entries = await Promise.all(group.map(async ([key, value]) => ({ key, value: value && entry(key, await whole(key, value)) })));
      await level.batch(
        [
          ...entries.map(({ key, value }) => (value === null ? { type: 'del' as const, key } : { type: 'put' as const, key, value })),
          { type: 'put' as const, key: STATE, value: entry(STATE, state) },
        ],
        { sync: true },
      );
      // What was replaced meanwhile waits for the next group.
      for (const [key, value] of group) if (waiting.get(key) === value) waiting.delete(key);
      if (isFailing) ports.log.info({ event: 'answers.written_again' }, 'newest answers are written to the data folder again');
      isFailing = false;
    } catch (cause) {
      isKnownWritten = false;
      if (!isFailing)
        ports.log.error(
          { event: 'answers.not_written', cause: cause instanceof Error ? cause.message : 'unknown' },
          'newest answers cannot be written to the data folder; they stay in memory',
        );
      [isFailing, againAt] = [true, ports.clock.now() + AGAIN_MS];
    }
  };
  let writing: Promise<void> = Promise.resolve();
  const flush = (): Promise<void> => (writing = writing.then(write));
  const timer = setInterval(() => {
    // Sealing all that waits five times a second would help no full disk.
    if (!isFailing || ports.clock.now() >= againAt) void flush();
  }, FLUSH_MS).unref();

  const read = async (key: string): Promise<string | null> => {
    const held = waiting.get(key);
    if (held !== undefined) return held && (await whole(key, held)).text;
    const value = await level.get(key);
    return value === undefined ? null : seal.open(key, value.subarray(HEAD_BYTES));
  };
  const unreadable =
    (key: string) =>
    (cause: unknown): null => {
      ports.log.warn(
        { event: 'answers.not_readable', key, cause: cause instanceof Error ? cause.message : 'unreadable' },
        'an entry of the newest answers does not open; it is skipped',
      );
      return null;
    };
  /** Of what is written, and of what still waits for it. */
  const keysOf = async (prefix: string): Promise<Set<string>> => {
    await flush();
    const keys = new Set([...waiting.keys()].filter((one) => one.startsWith(prefix)));
    for await (const key of level.keys({ gte: prefix, lt: `${prefix}~` })) keys.add(key);
    return keys;
  };
  const remember = (key: string, value: Entry | null): void => {
    if (!waiting.has(key) && waiting.size >= MAX_WAITING) return; // the folder has been failing for long; the newest of each grant counts
    const before = waiting.get(key);
    waiting.set(key, value?.lacksRefresh && before ? withRefresh(value, before.text) : value);
  };
  const of = async (grantId: string): Promise<NewestAnswer | null> => {
    const text = await read(`${ANSWER}${grantId}`).catch(() => null); // `all` reports entries that do not open
    return text === null ? null : answerOf(text);
  };
  return {
    put(answer) {
      const { first, ...rest } = answer;
      const at = ports.clock.now();
      const before = seen.get(answer.grantId);
      seen.set(answer.grantId, {
        generation: answer.generation,
        issuedAt: answer.life.issuedAt,
        refresh: answer.tokens.refresh ? hashOf(answer.tokens.refresh) : before === undefined || before === NEVER ? null : before.refresh,
      });
      remember(`${ANSWER}${answer.grantId}`, { at, text: answerText(rest), lacksRefresh: answer.tokens.refresh === null });
      if (first) remember(`${FIRST}${answer.grantId}`, { at, text: JSON.stringify(first) });
    },
    ended(grantIds) {
      for (const grantId of grantIds) seen.set(grantId, NEVER);
      for (const grantId of grantIds) for (const kind of [ANSWER, FIRST]) remember(`${kind}${grantId}`, null);
    },
    of,
    async isOutdated(grantId, { generation, issuedAt, refresh }) {
      let known = seen.get(grantId);
      if (known === undefined) {
        const kept = await of(grantId);
        known =
          kept === null ? NEVER : { generation: kept.generation, issuedAt: kept.life.issuedAt, refresh: kept.tokens.refresh && hashOf(kept.tokens.refresh) };
        seen.set(grantId, known);
      }
      if (known === NEVER) return false;
      if (known.generation !== generation) return known.generation > generation;
      // Of two answers to one token the later one counts, here and in `isMixed`: two replicas must not put back against each other.
      return known.refresh !== null && known.issuedAt >= issuedAt && known.refresh !== hashOf(refresh);
    },
    knows(now) {
      if (now.own === known.own && JSON.stringify(now.others) === JSON.stringify(known.others)) return;
      [known, isKnownWritten] = [now, false];
    },
    known: () => known,
    keepEntered: (id, text) => remember(`${ENTERED}${id}`, { at: ports.clock.now(), text }),
    async *allEntered() {
      for (const key of await keysOf(ENTERED)) {
        const text = await read(key).catch(unreadable(key));
        if (text !== null) yield text;
      }
    },
    async *all() {
      for (const key of await keysOf(ANSWER)) {
        try {
          const text = await read(key);
          if (text === null) continue;
          const first = await read(`${FIRST}${key.slice(ANSWER.length)}`);
          yield { ...answerOf(text), ...(first === null ? {} : { first: JSON.parse(first) as FirstAnswer }) };
        } catch (cause) {
          unreadable(key)(cause);
        }
      }
    },
    async prune() {
      const now = ports.clock.now();
      const bytesByHour = new Map<number, number>();
      let kept = 0;
      const hourOf = (value: Buffer): number => Math.floor(Number(value.readBigUInt64BE()) / HOUR_MS);
      for await (const [key, value] of level.iterator()) {
        if (key === STATE) continue;
        kept += 1;
        bytesByHour.set(hourOf(value), (bytesByHour.get(hourOf(value)) ?? 0) + value.length);
      }
      let [cutHour, bytes] = [Math.floor((now - keptMs) / HOUR_MS), 0];
      for (const [hour, size] of [...bytesByHour].sort(([a], [b]) => b - a)) {
        bytes += size;
        if (bytes > bytesMost) cutHour = Math.max(cutHour, hour);
      }
      for await (const [key, value] of level.iterator()) {
        if (key === STATE || hourOf(value) > cutHour) continue;
        await level.del(key);
        kept -= 1;
      }
      return kept;
    },
    flush,
    async stop() {
      clearInterval(timer);
      await flush();
      await level.close();
    },
  };
}

/** @returns the folder, and what it knows; `state` null: it is new */
async function openLevel(
  { folder, installationId, ports }: Pick<NewestAnswersParts, 'folder' | 'installationId' | 'ports'>,
  path: string,
  unseal: (row: string, sealed: Uint8Array) => string,
): Promise<{ level: Level; state: KnownSaves | null }> {
  const setAside = (why: string): void => {
    const aside = join(folder, `answers.set-aside-${Math.floor(ports.clock.now())}`);
    renameSync(path, aside);
    ports.log.error({ event: 'answers.set_aside', folder: aside, why }, 'the newest answers in the data folder cannot be used; they are set aside');
  };
  const open = async (): Promise<Level> => {
    mkdirSync(path, { recursive: true, mode: 0o700 });
    const level: Level = new ClassicLevel(path, { valueEncoding: 'buffer' });
    await level.open();
    return level;
  };
  let level: Level;
  try {
    level = await open();
  } catch (cause) {
    setAside(cause instanceof Error ? cause.message : 'it cannot be opened');
    level = await open();
  }
  const written = await level.get(STATE);
  if (written === undefined) return { level, state: null };
  try {
    const { installation, own, others } = JSON.parse(unseal(STATE, written.subarray(HEAD_BYTES))) as KnownSaves & { installation: string };
    if (installation === installationId) return { level, state: { own, others } };
    await level.close();
    setAside(`it belongs to the installation ${installation}`);
  } catch (cause) {
    await level.close();
    setAside(cause instanceof Error ? cause.message : 'it does not open');
  }
  return { level: await open(), state: null };
}
