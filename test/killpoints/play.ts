import type { ApiClient } from '../../src/api/client.ts';
import { freePort } from '../../src/service/database/private-mariadb.ts';
import { playConsent } from '../../src/standins/visitor.ts';
import { newFolder, newMasterKey, removeFolder, type ServiceOptions, type ServiceUnderTest, signIn, startService } from '../../testing/service.ts';
import { testProgram } from '../../testing/test-programs.ts';
import { eventually } from '../../testing/waiting.ts';
import { addConnection, addEelgrass, agree, type StandinUnderTest, startEelgrass } from '../support/harbour.ts';

export const KINDS = ['grace', 'strict', 'none'] as const;
export type Kind = (typeof KINDS)[number];
const DIALECTS: Record<Kind, [from: string, to: string][]> = {
  grace: [],
  strict: [['  reuse: grace\n  reuse_grace_seconds: 30', '  reuse: kills_grant']],
  none: [['  rotation: each_use\n  reuse: grace\n  reuse_grace_seconds: 30', '  rotation: never']],
};

/** What must be true after the restart: it works, or the answer was truly lost and that is said, or the person must reconnect. */
export type Outcome = 'works' | 'lost in flight' | 'reconnect';
const always = (outcome: Outcome): Record<Kind, Outcome> => ({ grace: outcome, strict: outcome, none: outcome });
const lostIfStrict: Record<Kind, Outcome> = { grace: 'works', strict: 'lost in flight', none: 'works' };
export const POINTS = {
  after_claim: always('works'),
  after_arm: always('works'),
  bytes_left: lostIfStrict,
  answer_arrived: lostIfStrict,
  spill_torn: lostIfStrict,
  spill_renamed: always('works'),
  save_committed: always('works'),
  saved_before_unlink: always('works'),
  code_answer: always('reconnect'),
  code_spilled: always('works'),
  thaw_with_answer: always('works'),
  spill_owner_down: always('works'),
} as const;
export type Point = keyof typeof POINTS;

export interface Played {
  kind: Kind;
  point: Point;
  wanted: Outcome;
  seen: string;
  /** From the restart to the outcome. */
  tookMs: number;
  /** Second uses of a refresh token that the provider did not forgive. */
  reuse: number;
}

const STRIKE_LIMIT_MS = 20_000;
const LIMITS = {
  RUSTY_KETTLE_DEADLINE_MS: '1500',
  RUSTY_KETTLE_LEASE_MS: '3000',
  RUSTY_KETTLE_MARGIN_MS: '300',
  RUSTY_KETTLE_HOLDER_WAIT_MS: '8000',
  RUSTY_KETTLE_SILENT_MS: '1000',
};
/** A token that a use cannot spend is not armed: there is no such point. */
export const happens = (kind: Kind, point: Point): boolean => !(kind === 'none' && point === 'after_arm');
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

/** Plays one point: a connection is consented to, a renewal (or a consent) meets the point, and a plain service comes up again. */
export async function playKillPoint(kind: Kind, point: Point, databaseUrl: string): Promise<Played> {
  const [folder, port, masterKey] = [newFolder(), await freePort(), newMasterKey()];
  const standin = await startEelgrass(3600, (text) => DIALECTS[kind].reduce((changed, [from, to]) => changed.replace(from, to), text));
  const options: ServiceOptions = { databaseUrl, folder, port, masterKey, environment: LIMITS };
  const running: ServiceUnderTest[] = [];
  const start = async (more: Partial<ServiceOptions> = {}): Promise<ServiceUnderTest> => {
    const service = await startService({ ...options, ...more });
    running.push(service);
    return service;
  };
  try {
    const first = await start();
    const setUp = await signIn(first);
    await addEelgrass(setUp, standin);
    await addConnection(setUp, 'c');
    if (!point.startsWith('code_')) await agree(setUp, 'c');
    const before = (await setUp('showConnection', { params: { connection: 'c' } })).renewals;
    await first.stop();

    const struck = await start({ run: [...testProgram('killed'), point] });
    const call = await signIn(struck);
    const second = await strike(point, call, struck, standin, start);
    const startedAt = Date.now();
    const again = point === 'thaw_with_answer' ? struck : await start();
    const seen = await outcomeOf(await signIn(again), before, point);
    await second?.stop();
    const { counters } = await standin.counters();
    return { kind, point, wanted: POINTS[point][kind], seen, tookMs: Date.now() - startedAt, reuse: counters.reuse ?? 0 };
  } finally {
    for (const service of running) if (service.process.exitCode === null && service.process.signalCode === null) await service.kill();
    await standin.stop();
    removeFolder(folder);
  }
}

/** Brings the process to its point; the answer is the second replica, where the point needs one. */
async function strike(
  point: Point,
  call: ApiClient,
  struck: ServiceUnderTest,
  standin: StandinUnderTest,
  start: (more: Partial<ServiceOptions>) => Promise<ServiceUnderTest>,
): Promise<ServiceUnderTest | null> {
  const died = new Promise<void>((resolve, reject) => {
    const limit = setTimeout(() => reject(new Error(`the process did not come to ${point}`)), STRIKE_LIMIT_MS);
    struck.process.once('exit', () => {
      clearTimeout(limit);
      resolve();
    });
  });
  died.catch(() => undefined); // thrown where it is awaited: one point never ends the process
  if (point === 'bytes_left') await standin.order('faults', { at: 'token', kind: 'hold_answer', delay_ms: 1_200 });
  if (point.startsWith('code_')) {
    const opened = await call('openConnection', { params: { connection: 'c' } });
    await playConsent(opened.start_url);
    await died;
    return null;
  }
  if (point === 'thaw_with_answer') {
    await standin.order('faults', { at: 'token', kind: 'hold_answer', delay_ms: 400 });
    void call('renewConnection', { params: { connection: 'c' } }).catch(() => undefined);
    await pause(200);
    struck.process.kill('SIGSTOP');
    const other = await start({ folder: newFolder(), port: await freePort(), publicUrl: struck.url });
    await pause(4_500); // longer than the lease, shorter than the holder wait
    struck.process.kill('SIGCONT');
    return other;
  }
  void call('renewConnection', { params: { connection: 'c' } }).catch(() => undefined); // the process dies under it
  await died;
  if (point !== 'spill_owner_down') return null;
  const other = await start({ folder: newFolder(), port: await freePort(), publicUrl: struck.url });
  await pause(4_500);
  return other;
}

async function outcomeOf(call: ApiClient, before: number, point: Point): Promise<string> {
  const show = () => call('showConnection', { params: { connection: 'c' } });
  if (point === 'code_answer') {
    const { state } = await show();
    return state === 'draft' ? 'reconnect' : state;
  }
  const seen = await eventually(
    async () => {
      const now = await show();
      const settled =
        now.state === 'action_needed' || (now.consented_at !== null && now.failures === 0 && (now.renewals > before || point.startsWith('code_')));
      return settled ? now : null;
    },
    40_000,
    `an outcome after ${point}`,
  );
  if (seen.state === 'action_needed') return seen.cause?.includes('lost in flight') ? 'lost in flight' : `needs action: ${seen.cause}`;
  // What was kept must be what the provider honours: one more renewal verifies it.
  const verified = await eventually(async () => {
    const { renewals } = await show();
    return (await call('renewConnection', { params: { connection: 'c' } })).renewals > renewals;
  }, 20_000);
  return verified ? 'works' : 'not proved';
}
