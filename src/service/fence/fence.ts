import { z } from 'zod';
import { attempts } from '../../api/attempts.ts';
import { Fault } from '../../core/fault.ts';
import { fenceProof, isFenceProof, type Judgment, judge, type Standing } from '../../core/fence/fence.ts';
import { base64url } from '../../core/identifiers.ts';
import { parsedJson } from '../../core/json.ts';
import type { Send } from '../../core/oauth/wire.ts';
import type { History } from '../history/index.ts';
import { iso } from '../iso.ts';
import type { Ports } from '../ports.ts';
import type { InstallationHold, SpilledAnswer } from '../renewal/index.ts';
import { runPeriodically } from '../run-periodically.ts';
import type { InstallationStore } from '../store/installation.ts';
import { openTransfer, sealTransfer, type TransferPage } from './transfer.ts';

const EVERY_MS = 15_000;
/** Whoever is asked to stop waits until nothing is under way before it answers. */
const STOPPING_MS = 30_000;
const DEADLINE_MS = 45_000;
/** Other replicas hear of a hold within a second. */
const HEARD_MS = 1_500;
const SKEW_MS = 5 * 60_000;
const PAGE_ROWS = 200;
const PAGE_BYTES = 8_000_000;
const MAX_PAGES = 100_000;

const Asked = z.strictObject({
  installation: z.string().max(60),
  generation: z.number().int(),
  restore: z.string().max(60).nullable(),
  challenge: z.string().min(20).max(100),
  at: z.number(),
  url: z.string().max(500),
  /** It takes the grants: it was restored to move, or an operator said so. */
  owns: z.boolean(),
  proof: z.string().max(100),
});
/** After the origin has stopped: its newest answers, a page at a time. */
const TransferRequest = Asked.extend({ after: z.string().max(40).nullable() });
const Answered = z.strictObject({
  installation: z.string(),
  generation: z.number().int(),
  restore: z.string().nullable(),
  held: z.boolean(),
  owns: z.boolean(),
  /** To which restored copy it gave way. */
  gaveWayTo: z.strictObject({ generation: z.number().int(), restore: z.string() }).nullable(),
  proof: z.string(),
});

const Page = z.object({ sealed: z.string() });

export interface FenceParts {
  store: InstallationStore;
  hold: InstallationHold;
  history: History;
  /** Resolves once no renewal of this replica is under way. */
  idle(): Promise<void>;
  /** Whether a renewal is under way on any replica. */
  isBusy(): Promise<boolean>;
  /** Present tokens of grants, from one on. */
  newest(after: string | null, most: number): Promise<TransferPage>;
  /** Saves what is newer than what is here. */
  putBack(answers: readonly SpilledAnswer[]): Promise<{ putBack: number; unknown: number }>;
  send: Send;
  key: Uint8Array;
  publicUrl: string;
  ports: Pick<Ports, 'clock' | 'log' | 'random' | 'sleep'>;
}

/** Keeps an installation and its restored copy from renewing the same grants: they find each other by their addresses, and one stops. */
export interface Fence {
  /** Answers another installation; null: it is a stranger, or forged. */
  answer(message: unknown): Promise<object | null>;
  /** Hands a page of its newest answers to the copy to which this one gave way; null: it did not, or the message is forged. */
  transfer(message: unknown): Promise<{ sealed: string } | null>;
  /** Before an operator lets this copy go on: the origin stops, where it answers, and transfers what is newer. */
  moveHere(): Promise<void>;
  /** Checks for others every 15 s, the first time at once. */
  run(stop: AbortSignal): Promise<void>;
}

export function fence(s: FenceParts): Fence {
  const standing = async (): Promise<
    Standing & {
      held: boolean;
      owns: boolean;
      moves: boolean;
      formerUrl: string | null;
      isRestored: boolean;
      gaveWayTo: z.output<typeof Answered>['gaveWayTo'];
    }
  > => {
    const row = await s.store.read();
    return {
      ...{ installation: row?.installationId ?? '', generation: row?.generation ?? 1, restore: row?.restoreId ?? null, held: row?.held ?? false },
      ...{ owns: row != null && (row.moves || row.ownedAt !== null), moves: row?.moves ?? false },
      gaveWayTo:
        row?.successorRestore != null && row.successorGeneration !== null ? { generation: row.successorGeneration, restore: row.successorRestore } : null,
      ...{ formerUrl: row?.formerUrl ?? null, isRestored: row?.restoreId != null && row.ownedAt === null },
    };
  };
  /** A copy that does not own the grants is on hold itself: no other installation stops for it. */
  const stopFor = async (judgment: Judgment, url: string, { generation, owns }: { generation: number; owns: boolean }): Promise<void> => {
    if (judgment === 'successor' || judgment === 'twin') s.hold.noteGeneration(generation);
    if (!owns) return;
    if (judgment === 'successor')
      await s.hold.hold(
        `A backup of this installation was restored at ${url}, and that one owns the grants now. Stop this service. If it should go on instead, stop the other one first.`,
      );
    if (judgment === 'twin')
      await s.hold.hold(
        `The same backup was restored twice: another copy answers at ${url}. Both are on hold. Stop one of them, then let the other one go on.`,
      );
  };
  const untilIdle = async (): Promise<boolean> => {
    await s.ports.sleep(HEARD_MS, new AbortController().signal);
    await Promise.race([s.idle(), s.ports.sleep(STOPPING_MS, new AbortController().signal)]);
    for await (const _ of attempts({ withinMs: STOPPING_MS, everyMs: 200 })) if (!(await s.isBusy())) return true;
    return false;
  };
  const post = async (
    { url, path, owns }: { url: string; path: string; owns: boolean },
    { more, limitBytes }: { more: { after?: string | null }; limitBytes: number },
  ): Promise<{ challenge: string; body: unknown } | null> => {
    const mine = await standing();
    const challenge = base64url(s.ports.random.bytes(24));
    const at = s.ports.clock.now();
    const proof = fenceProof(s.key, 'ask', challenge, { standing: mine, more: [at, s.publicUrl, owns, ...Object.values(more)] });
    const { installation, generation, restore } = mine;
    const answer = await s.send({
      method: 'POST',
      url: `${url}${path}`,
      headers: { 'content-type': 'application/json', accept: 'application/json' },
      body: JSON.stringify({ installation, generation, restore, challenge, at, url: s.publicUrl, owns, ...more, proof }),
      ...{ deadlineMs: DEADLINE_MS, limitBytes },
    });
    return answer.kind === 'answer' && answer.status === 200 ? { challenge, body: parsedJson(answer.body) } : null;
  };
  const ask = async (url: string, owns: boolean): Promise<z.output<typeof Answered> | null> => {
    const answer = await post({ url, path: '/fence', owns }, { more: {}, limitBytes: 10_000 });
    const read = Answered.safeParse(answer?.body);
    if (!answer || !read.success) return null;
    const { held, owns: theirs, gaveWayTo } = read.data;
    const expected = fenceProof(s.key, 'answer', answer.challenge, { standing: read.data, more: [held, theirs, gaveWayTo] });
    return isFenceProof(read.data.proof, expected) ? read.data : null;
  };
  /** All that the origin has and this copy has not, page by page: the next one is requested when the last one is saved. */
  const collect = async (url: string): Promise<{ putBack: number; unknown: number }> => {
    const sum = { putBack: 0, unknown: 0 };
    for (let [after, page]: [string | null, number] = [null, 0]; page < MAX_PAGES; page += 1) {
      const answer = await post({ url, path: '/fence/answers', owns: true }, { more: { after }, limitBytes: PAGE_BYTES });
      const read = Page.safeParse(answer?.body);
      if (!answer || !read.success)
        throw new Fault('INSTALLATION_HELD', {
          detail: `The former installation at ${url} has stopped, and its newest tokens did not come. Nothing was renewed here.`,
          remedy: 'Run `rk installation own` again while both run.',
        });
      const { answers, next } = openTransfer(s.key, answer.challenge, read.data.sealed);
      const done = await s.putBack(answers);
      [sum.putBack, sum.unknown] = [sum.putBack + done.putBack, sum.unknown + done.unknown];
      if (next === null) return sum;
      after = next;
    }
    return sum;
  };
  /** The original stops, transfers its tokens, and this one goes on. */
  const takeFrom = async (url: string, by: string): Promise<void> => {
    const { putBack, unknown } = await collect(url);
    const says = `The former installation at ${url} has stopped renewing (${iso(s.ports.clock.now())}) and transferred ${putBack} newer tokens${
      unknown === 0 ? '' : `; ${unknown} of its grants came after the backup and are not here`
    }: this one owns the grants and continues renewing them.`;
    s.ports.log.warn({ event: 'fence.former_stopped', url }, says);
    s.history.add({ actor: by, kind: 'fence_former_stopped', subject: 'installation', says });
  };
  /** One look at an address. */
  const look = async (url: string): Promise<void> => {
    const mine = await standing();
    const other = await ask(url, mine.owns);
    if (other === null) return;
    const judgment = judge(mine, other);
    await stopFor(judgment, url, other);
    if (judgment !== 'former' || !other.held || !mine.moves) return;
    const { gaveWayTo } = other;
    if (gaveWayTo !== null && gaveWayTo.generation >= mine.generation && gaveWayTo.restore !== mine.restore) {
      s.hold.noteGeneration(gaveWayTo.generation);
      return s.hold.hold(
        `The same backup was restored twice: the former installation at ${url} gave way to another copy. Stop one of them, then let the other one go on.`,
      );
    }
    // It has stopped: what was restored may go on.
    if (mine.held && mine.isRestored) {
      await takeFrom(url, 'service');
      await s.hold.own('service');
    }
  };
  return {
    async answer(message) {
      const read = Asked.safeParse(message);
      if (!read.success) return null;
      const { proof, challenge, at, url, owns, ...other } = read.data;
      const isProved = isFenceProof(proof, fenceProof(s.key, 'ask', challenge, { standing: other, more: [at, url, owns] }));
      const mine = await standing();
      const judgment = judge(mine, other);
      if (!isProved || judgment === 'stranger' || Math.abs(at - s.ports.clock.now()) > SKEW_MS) return null;
      await stopFor(judgment, url, { generation: other.generation, owns });
      const givesWay = judgment === 'successor' && owns;
      if (givesWay && other.restore !== null) await s.store.giveWay(other.generation, other.restore);
      const held = givesWay ? await untilIdle() : (await standing()).held;
      const { installation, generation, restore } = mine;
      const { gaveWayTo } = await standing();
      const more = [held, mine.owns, gaveWayTo];
      return { installation, generation, restore, held, owns: mine.owns, gaveWayTo, proof: fenceProof(s.key, 'answer', challenge, { standing: mine, more }) };
    },
    async transfer(message) {
      const read = TransferRequest.safeParse(message);
      if (!read.success) return null;
      const { proof, challenge, at, url, owns, after, ...other } = read.data;
      const isProved = isFenceProof(proof, fenceProof(s.key, 'ask', challenge, { standing: other, more: [at, url, owns, after] }));
      const { held, gaveWayTo } = await standing();
      // Only to the one for which it has stopped, and only then.
      if (!isProved || !held || other.restore === null || gaveWayTo?.restore !== other.restore) return null;
      if (Math.abs(at - s.ports.clock.now()) > SKEW_MS) return null;
      return { sealed: sealTransfer(s.key, { challenge, nonce: s.ports.random.bytes(12) }, await s.newest(after, PAGE_ROWS)) };
    },
    async moveHere() {
      const { formerUrl, isRestored, restore } = await standing();
      if (!isRestored || formerUrl === null) return;
      const other = await ask(formerUrl, true);
      // It has transferred its tokens to another copy already.
      if (other?.held && other.gaveWayTo?.restore === restore) await takeFrom(formerUrl, 'service');
    },
    run: (stop) =>
      runPeriodically({ ports: s.ports, everyMs: EVERY_MS, failed: 'other installations could not be checked; retrying', stop }, async () => {
        const { formerUrl } = await standing();
        // Our own address is asked too: another installation may answer there by now.
        for (const url of new Set([formerUrl, s.publicUrl])) if (url !== null && !stop.aborted) await look(url);
        return false;
      }),
  };
}
