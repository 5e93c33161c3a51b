import { randomBytes } from 'node:crypto';
import { setMaxListeners } from 'node:events';
import pTimeout from 'p-timeout';
import { pino } from 'pino';
import { attempts } from '../api/attempts.ts';
import { newRecordId } from '../core/identifiers.ts';
import { keepBackups } from './backup/index.ts';
import { watchApprovals } from './clients/index.ts';
import { type Base, type Opened, openBase } from './composition/base.ts';
import { joinRenewal, type Renewal } from './composition/renewal.ts';
import { joinRooms, movedIn, type Rooms } from './composition/rooms.ts';
import type { TestHooks } from './composition/test-hooks.ts';
import { pollDevices } from './consent/index.ts';
import { openDataFolder, startPrivateMariadb } from './database/index.ts';
import { putBackEntered } from './entered.ts';
import { keepRevoking } from './grants/index.ts';
import { keepTidy } from './housekeeping.ts';
import { listen, openFront, readTlsFiles, refuseUsedPort } from './http/index.ts';
import { runJobs } from './jobs/index.ts';
import { keepResealing } from './keys/index.ts';
import { chooseMasterKey } from './master-key.ts';
import { keepNotices, sendNotices, watchWrites } from './notices/index.ts';
import { deliverEvents, runCampaigns } from './people/index.ts';
import { sweepScratch } from './rehearsals/index.ts';
import { keepRenewing } from './renewal/index.ts';
import { putBackAll, putBackOf, recoverFormerLives } from './replicas/index.ts';
import type { Settings } from './settings.ts';
import { checkReplication, offerFirstOperator, rescueOperator, untilDatabase } from './start-up.ts';
import { openDatabase } from './store/database.ts';
import { MIGRATION_LIMIT_MS, migrate } from './store/migrate.ts';

export interface RunningService {
  publicUrl: string;
  /** Where the one-time link for the first operator was written; null when there is an operator. */
  firstOperatorFile: string | null;
  /** The address of the private database; null: the database is given. */
  privateDatabase: string | null;
  /** Whether something is due or under way. A rehearsal moves its time when nothing is. */
  isBusy(): Promise<boolean>;
  /** It will be stopped: `/readyz` and each answer say so. */
  stopping(): void;
  stop(): Promise<void>;
}

const STOP_UNSAVED_MS = 10 * 60_000;
const STOP_IDLE_MS = 30_000;
/** How long requests that run may take after a stop was requested. */
const STOP_DRAIN_MS = 25_000;

/** Joins all parts and starts the service. The one place where they meet. */
export async function startService(settings: Settings, testHooks: TestHooks = {}): Promise<RunningService> {
  const log = pino({ level: settings.logLevel, base: { pid: process.pid } }, pino.destination({ dest: 2, sync: true }));
  // Before databases are started and migrated: a typing error is reported at once.
  if (settings.tls) readTlsFiles(settings.tls);
  if (settings.processes === 1) await refuseUsedPort(settings); // of several, the supervisor looks
  const folder = await openDataFolder(settings.dataFolder);
  const own = settings.databaseUrl
    ? null
    : await startPrivateMariadb({ folder: folder.path, say: (text) => log.warn({ event: 'database.private_server' }, text) });
  try {
    return await openWithDatabase({ settings, log, folder, own }, testHooks);
  } catch (error) {
    await own?.stop();
    await folder.release();
    throw error;
  }
}

async function openWithDatabase(
  { settings, log, folder, own }: Pick<Opened, 'settings' | 'log' | 'folder' | 'own'>,
  testHooks: TestHooks,
): Promise<RunningService> {
  const master = await chooseMasterKey(settings, folder, own !== null);
  const url = own?.url ?? settings.databaseUrl?.reveal() ?? '';
  const database = openDatabase(url, settings.poolSize, settings.databaseNodes, testHooks.time ? { time: testHooks.time } : {});
  const lifeId = newRecordId(Date.now(), randomBytes(16));
  try {
    await untilDatabase(database, log);
    await checkReplication(database, log);
    await bringUpToDate(url, settings, lifeId);
    return await joinParts({ settings, log, folder, own, master, database, lifeId }, testHooks);
  } catch (error) {
    await database.close(); // open connections would keep a process active that has nothing to do
    throw error;
  }
}

/** Over a connection of its own: a migration of large tables takes longer than a statement of every day may. */
async function bringUpToDate(url: string, settings: Settings, lifeId: string): Promise<void> {
  const patient = openDatabase(url, 1, settings.databaseNodes, { statementMs: MIGRATION_LIMIT_MS });
  try {
    await migrate(patient, lifeId);
  } finally {
    await patient.close();
  }
}

/** Joins the parts, begins the rounds, and listens. */
async function joinParts(opened: Opened, testHooks: TestHooks): Promise<RunningService> {
  const base = await openBase(opened, testHooks);
  const renewal = await joinRenewal(base, testHooks);
  const stopping = new AbortController();
  setMaxListeners(0, stopping.signal); // everything that runs in rounds listens
  const rooms = await joinRooms(base, renewal, stopping.signal);
  const { settings, folder, log, ports, store, publicUrl, own } = base;
  const { engine, spares, replica, spilled } = renewal;
  const saving = { ...rooms.recovery, sealer: base.sealer, moved: movedIn(renewal) };
  await recoverFormerLives({ ...rooms.recovery, spill: spilled, instanceId: folder.instanceId, putBack: putBackOf(saving, base.newest) });
  await replica.recovered();
  const idle = async (): Promise<void> => void (await pTimeout(engine.idle(), { milliseconds: settings.limits.leaseMs, message: false }));
  const putBack = putBackAll({
    ...saving,
    newest: base.newest,
    idle,
    revive: replica.revive,
    entered: () => putBackEntered({ ...saving, store, newest: base.newest }),
  });
  const rounds = base.isPractice
    ? [renewal.states.run(stopping.signal)]
    : [
        // In a rehearsal's time nothing goes back, and each look would be a step.
        ...(testHooks.time ? [] : [renewal.ground.run(putBack, stopping.signal)]),
        keepRenewing({ engine, spares, concurrency: settings.concurrency, pollMs: settings.limits.pollMs, ports }, stopping.signal),
        ...otherRounds(rooms, renewal, stopping.signal),
      ];
  const { parts, usage, relayed, operators, consents, fence, identity } = rooms;
  const front = openFront({ rooms: parts, usage, relayed, operators, consents, fence, identity, dispatcher: base.out.dispatcher });
  // Before anybody can ask whether it is there; a second process would take the first one's link back.
  if (settings.isFirstProcess) await rescueOperator(operators, folder, settings.rescue, log);
  const firstOperatorFile = settings.isFirstProcess ? await offerFirstOperator(operators, folder, publicUrl) : null;
  try {
    await listen(front.server, settings);
  } catch (error) {
    stopping.abort();
    throw error; // the process ends with it: what was started here holds nothing yet
  }
  void sweepScratch(ports); // what a killed rehearsal left
  log.info({ event: 'service.ready', publicUrl, incarnation: replica.incarnation, database: own ? 'private' : 'given' }, 'ready');

  let stopped: Promise<void> | null = null;
  const stop = async (): Promise<void> => {
    stopping.abort();
    await finish({ base, renewal, rooms, front, rounds });
  };
  return {
    ...{ publicUrl, firstOperatorFile, privateDatabase: own?.url ?? null, isBusy: store.rehearsals.underWay },
    ...{ stopping: front.stopping, stop: () => (stopped ??= stop()) },
  };
}

/** All that runs in rounds beside renewing, until it is stopped. */
const otherRounds = ({ parts, consents, mail, fence }: Rooms, { states }: Renewal, stop: AbortSignal): Promise<void>[] => [
  watchApprovals(parts, parts.settings.approvalCheckMs, stop),
  pollDevices(parts, consents, stop),
  keepRevoking(parts, stop),
  keepTidy(parts, stop),
  states.run(stop),
  runJobs(parts, stop),
  deliverEvents(parts, stop),
  runCampaigns(parts, stop),
  mail.run(stop),
  keepNotices(parts, stop),
  sendNotices(parts, stop),
  watchWrites(parts, stop),
  keepResealing(parts, stop),
  keepBackups(parts, stop),
  fence.run(stop),
];

interface Running {
  base: Base;
  renewal: Renewal;
  rooms: Rooms;
  front: ReturnType<typeof openFront>;
  rounds: Promise<void>[];
}

/** Ends what runs, saves what is not saved yet, and closes everything in the order in which the parts depend on each other. */
async function finish({ base, renewal, rooms, front, rounds }: Running): Promise<void> {
  const { log, clock, changes, history, sealer, ports, out, database, own, folder } = base;
  const { engine, keeper, wireLog, replica, spilled } = renewal;
  const { parts, consents, usage, relayed, workers, fenceOut } = rooms;
  const drained = front.drain(STOP_DRAIN_MS);
  await Promise.all(rounds);
  await pTimeout(Promise.all([engine.idle(), consents.idle()]), { milliseconds: STOP_IDLE_MS, message: false });
  // An answer that is in memory alone is worth waiting for: losing it costs a person's consent.
  if (keeper.unsaved() > 0) log.error({ event: 'service.stop_waits', unsaved: keeper.unsaved() }, 'stopping waits: answers are not saved yet');
  for await (const _ of attempts({ withinMs: STOP_UNSAVED_MS, everyMs: 100 })) if (keeper.unsaved() === 0) break;
  await drained;
  front.stop();
  changes.stop();
  parts.logLevel.stop();
  clock.stop();
  await Promise.all([usage, relayed, parts.quotas, history, wireLog, sealer, ...Object.values(workers)].map((one) => one.stop()));
  await replica.stop(keeper.unsaved() === 0 && spilled.waiting() === 0);
  await base.newest.stop();
  await ports.traces.stop();
  await out.close();
  await fenceOut.close();
  await database.close();
  await own?.stop();
  await folder.release();
  log.info({ event: 'service.stopped' }, 'stopped');
}
