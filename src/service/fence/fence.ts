import { z } from 'zod';
import { looks } from '../../api/looks.ts';
import { fenceProof, isFenceProof, type Judgment, judge, type Standing } from '../../core/fence/fence.ts';
import { base64url } from '../../core/identifiers.ts';
import { parsedJson } from '../../core/json.ts';
import type { Send } from '../../core/oauth/wire.ts';
import type { History } from '../history/index.ts';
import { iso } from '../iso.ts';
import type { Ports } from '../ports.ts';
import type { InstallationHold } from '../renewal/index.ts';
import { keepRounds } from '../rounds.ts';
import type { InstallationStore } from '../store/installation.ts';

const EVERY_MS = 15_000;
/** Whoever is asked to stop waits until nothing is under way before it answers. */
const STOPPING_MS = 30_000;
const DEADLINE_MS = 45_000;
/** Other replicas hear of a hold within a second. */
const HEARD_MS = 1_500;
const SKEW_MS = 5 * 60_000;

const Asked = z.strictObject({
  installation: z.string().max(60),
  generation: z.number().int(),
  restore: z.string().max(60).nullable(),
  challenge: z.string().min(20).max(100),
  at: z.number(),
  url: z.string().max(500),
  proof: z.string().max(100),
});
const Answered = z.strictObject({
  installation: z.string(),
  generation: z.number().int(),
  restore: z.string().nullable(),
  held: z.boolean(),
  /** To which restored copy it gave way. */
  gaveWayTo: z.strictObject({ generation: z.number().int(), restore: z.string() }).nullable(),
  proof: z.string(),
});

export interface FenceParts {
  store: InstallationStore;
  hold: InstallationHold;
  history: History;
  /** Resolves once no renewal of this replica is under way. */
  idle(): Promise<void>;
  /** Whether a renewal is under way on any replica. */
  isBusy(): Promise<boolean>;
  send: Send;
  key: Uint8Array;
  publicUrl: string;
  ports: Pick<Ports, 'clock' | 'log' | 'random' | 'sleep'>;
}

/** Keeps an installation and its restored copy from renewing the same grants: they find each other by their addresses, and one stops. */
export interface Fence {
  /** Answers another installation; null: it is a stranger, or forged. */
  answer(message: unknown): Promise<object | null>;
  /** Checks for others every 15 s, the first time at once. */
  run(stop: AbortSignal): Promise<void>;
}

export function fence(s: FenceParts): Fence {
  const standing = async (): Promise<
    Standing & { held: boolean; formerUrl: string | null; isRestored: boolean; gaveWayTo: z.output<typeof Answered>['gaveWayTo'] }
  > => {
    const row = await s.store.read();
    return {
      ...{ installation: row?.installationId ?? '', generation: row?.generation ?? 1, restore: row?.restoreId ?? null, held: row?.held ?? false },
      gaveWayTo:
        row?.successorRestore != null && row.successorGeneration !== null ? { generation: row.successorGeneration, restore: row.successorRestore } : null,
      ...{ formerUrl: row?.formerUrl ?? null, isRestored: row?.restoreId != null && row.ownedAt === null },
    };
  };
  const stopFor = async (judgment: Judgment, url: string, generation: number): Promise<void> => {
    if (judgment === 'successor' || judgment === 'twin') s.hold.noteGeneration(generation);
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
    for await (const _ of looks({ withinMs: STOPPING_MS, everyMs: 200 })) if (!(await s.isBusy())) return true;
    return false;
  };
  const ask = async (url: string): Promise<z.output<typeof Answered> | null> => {
    const mine = await standing();
    const challenge = base64url(s.ports.random.bytes(24));
    const at = s.ports.clock.now();
    const proof = fenceProof(s.key, 'ask', challenge, { standing: mine, more: [at, s.publicUrl] });
    const { installation, generation, restore } = mine;
    const answer = await s.send({
      method: 'POST',
      url: `${url}/fence`,
      headers: { 'content-type': 'application/json', accept: 'application/json' },
      body: JSON.stringify({ installation, generation, restore, challenge, at, url: s.publicUrl, proof }),
      deadlineMs: DEADLINE_MS,
      limitBytes: 10_000,
    });
    if (answer.kind !== 'answer' || answer.status !== 200) return null;
    const read = Answered.safeParse(parsedJson(answer.body));
    if (
      !read.success ||
      !isFenceProof(read.data.proof, fenceProof(s.key, 'answer', challenge, { standing: read.data, more: [read.data.held, read.data.gaveWayTo] }))
    )
      return null;
    return read.data;
  };
  /** One look at an address. */
  const look = async (url: string): Promise<void> => {
    const other = await ask(url);
    if (other === null) return;
    const mine = await standing();
    const judgment = judge(mine, other);
    await stopFor(judgment, url, other.generation);
    if (judgment !== 'former' || !other.held) return;
    const { gaveWayTo } = other;
    if (gaveWayTo !== null && gaveWayTo.generation >= mine.generation && gaveWayTo.restore !== mine.restore) {
      s.hold.noteGeneration(gaveWayTo.generation);
      return s.hold.hold(
        `The same backup was restored twice: the former installation at ${url} gave way to another copy. Stop one of them, then let the other one go on.`,
      );
    }
    // It has stopped: what was restored may go on.
    if (mine.held && mine.isRestored) {
      const says = `The former installation at ${url} has stopped renewing (${iso(s.ports.clock.now())}): this one owns the grants and continues renewing them.`;
      s.ports.log.warn({ event: 'fence.former_stopped', url }, says);
      s.history.add({ actor: 'service', kind: 'fence_former_stopped', subject: 'installation', says });
      await s.hold.own('service');
    }
  };
  return {
    async answer(message) {
      const read = Asked.safeParse(message);
      if (!read.success) return null;
      const { proof, challenge, at, url, ...other } = read.data;
      const isProved = isFenceProof(proof, fenceProof(s.key, 'ask', challenge, { standing: other, more: [at, url] }));
      const mine = await standing();
      const judgment = judge(mine, other);
      if (!isProved || judgment === 'stranger' || Math.abs(at - s.ports.clock.now()) > SKEW_MS) return null;
      await stopFor(judgment, url, other.generation);
      if (judgment === 'successor' && other.restore !== null) await s.store.giveWay(other.generation, other.restore);
      const held = judgment === 'successor' ? await untilIdle() : (await standing()).held;
      const { installation, generation, restore } = mine;
      const { gaveWayTo } = await standing();
      return { installation, generation, restore, held, gaveWayTo, proof: fenceProof(s.key, 'answer', challenge, { standing: mine, more: [held, gaveWayTo] }) };
    },
    run: (stop) =>
      keepRounds({ ports: s.ports, everyMs: EVERY_MS, failed: 'other installations could not be checked; retrying', stop }, async () => {
        const { formerUrl } = await standing();
        // Our own address is asked too: another installation may answer there by now.
        for (const url of new Set([formerUrl, s.publicUrl])) if (url !== null && !stop.aborted) await look(url);
        return false;
      }),
  };
}
