import { randomBytes } from 'node:crypto';
import { setMaxListeners } from 'node:events';
import { readFileSync } from 'node:fs';
import pTimeout from 'p-timeout';
import { type Logger, pino } from 'pino';
import { looks } from '../api/looks.ts';
import { fenceKey } from '../core/fence/fence.ts';
import { newRecordId } from '../core/identifiers.ts';
import type { Send } from '../core/oauth/wire.ts';
import { DEFAULT_LANES, lanes } from '../core/renewal/lanes.ts';
import type { MasterKey } from '../core/sealing/master-key.ts';
import { keepBackups } from './backup/index.ts';
import { driftFrom } from './bundle/index.ts';
import { watchApprovals } from './clients/index.ts';
import { consents, pollDevices } from './consent/index.ts';
import { afterJump, type DataFolder, databaseClock, openDataFolder, type PrivateMariadb, standingClock, startPrivateMariadb } from './database/index.ts';
import { fence } from './fence/index.ts';
import { keepRevoking, resumeFirst } from './grants/index.ts';
import { changes, entryStream, history } from './history/index.ts';
import { keepTidy } from './housekeeping.ts';
import { type HttpParts, listen, openFront, readTlsFiles, refuseUsedPort } from './http/index.ts';
import { identitySignIn } from './identity/index.ts';
import { bell, runJobs } from './jobs/index.ts';
import { keepResealing } from './keys/index.ts';
import { logLevelSwitch } from './log-level.ts';
import { mail } from './mail/index.ts';
import { chooseMasterKey, formerMasterKey } from './master-key.ts';
import { keepNotices, sendNotices } from './notices/index.ts';
import { operators } from './operators/index.ts';
import { outgoing } from './outgoing/index.ts';
import { deliverEvents, personChanged, personConsented, runCampaigns } from './people/index.ts';
import { type Ports, random, sleep } from './ports.ts';
import { quotas } from './quotas/index.ts';
import { relayed } from './relay/index.ts';
import {
  answerKeeper,
  clientHealth,
  clientSecrets,
  connectionStates,
  definitions,
  grantContexts,
  holders,
  installationHold,
  keepRenewing,
  renewalEngine,
  type Spill,
  sightings,
  spares,
  spill,
  tokenCache,
  wireLog,
} from './renewal/index.ts';
import { beginLife, type RecoveryParts, recoverFormerLives } from './replicas/index.ts';
import { ensureInstallation, openSealer } from './sealer.ts';
import type { Settings } from './settings.ts';
import { agreeOnPublicUrl, offerFirstOperator, rescueOperator, untilDatabase } from './start-up.ts';
import { hourFigures } from './status/index.ts';
import type { ListedConnection } from './store/connection-rows.ts';
import { type Database, openDatabase } from './store/database.ts';
import { MIGRATION_LIMIT_MS, migrate } from './store/migrate.ts';
import type { RenewalStore } from './store/renewals.ts';
import type { RunStore } from './store/runs.ts';
import { openStore } from './store/store.ts';
import { apiSessions, apiTokens, handout } from './tokens/index.ts';
import { noTraces, openTraces, tracedSend } from './traces.ts';
import { usage } from './usage/index.ts';
import { documents, hashing, writing } from './workers/index.ts';

export interface RunningService {
  publicUrl: string;
  /** Where the one-time link for the first operator was written; null when there is an operator. */
  firstOperatorFile: string | null;
  /** The address of the private database; null: the database is given. */
  privateDatabase: string | null;
  /** Whether something is due or under way. A rehearsal moves its time when nothing is. */
  isBusy(): Promise<boolean>;
  stop(): Promise<void>;
}

const STOP_UNSAVED_MS = 10 * 60_000;
const STOP_IDLE_MS = 30_000;
/** How long requests that run may take after a stop was requested. */
const STOP_DRAIN_MS = 25_000;

const PACKAGE = JSON.parse(readFileSync(new URL('../../package.json', import.meta.url), 'utf8')) as { version: string };

/** Places at which another may put a wrapper of its own around a port: fault tests stop the process there. */
export interface Joints {
  send?(send: Send): Send;
  store?(store: RenewalStore): RenewalStore;
  spill?(spill: Spill): Spill;
  runs?(store: RunStore): RunStore;
  /** Another time than the world's: a rehearsal runs days in minutes. */
  time?: { now(): number; sleep: Ports['sleep']; during<T>(work: Promise<T>): Promise<T> };
}

/** Joins all parts and starts the service. The one place where they meet. */
export async function startService(settings: Settings, joints: Joints = {}): Promise<RunningService> {
  const log = pino({ level: settings.logLevel, base: { pid: process.pid } }, pino.destination({ dest: 2, sync: true }));
  // Before databases are started and migrated: a typing error is reported at once.
  if (settings.tls) readTlsFiles(settings.tls);
  if (settings.processes === 1) await refuseUsedPort(settings); // of several, the supervisor looks
  const folder = await openDataFolder(settings.dataFolder);
  const own = settings.databaseUrl
    ? null
    : await startPrivateMariadb({ folder: folder.path, say: (text) => log.warn({ event: 'database.private_server' }, text) });
  try {
    return await openWithDatabase({ settings, log, folder, own }, joints);
  } catch (error) {
    await own?.stop();
    await folder.release();
    throw error;
  }
}

async function openWithDatabase(
  { settings, log, folder, own }: { settings: Settings; log: Logger; folder: DataFolder; own: PrivateMariadb | null },
  joints: Joints,
): Promise<RunningService> {
  const master = await chooseMasterKey(settings, folder, own !== null);
  const url = own?.url ?? settings.databaseUrl?.reveal() ?? '';
  const database = openDatabase(url, settings.poolSize, settings.databaseNodes, joints.time ? { time: joints.time } : {});
  const lifeId = newRecordId(Date.now(), randomBytes(16));
  try {
    await untilDatabase(database, log);
    await bringUpToDate(url, settings, lifeId);
    return await joinParts({ settings, log, folder, own, master, database, lifeId }, joints);
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

interface Joined {
  settings: Settings;
  log: Logger;
  folder: DataFolder;
  own: PrivateMariadb | null;
  master: MasterKey;
  database: Database;
  lifeId: string;
}

async function joinParts({ settings, log, folder, own, master, database, lifeId }: Joined, joints: Joints): Promise<RunningService> {
  let jumped = (byMs: number): void => log.warn({ event: 'database.clock_changed', byMs }, 'the database clock was changed');
  const clock =
    (joints.time && standingClock(joints.time.now)) ??
    (await databaseClock(database, {
      onError: (cause) => log.debug({ event: 'database.clock_not_read', cause: String(cause) }, 'database clock not read'),
      onJump: (byMs) => jumped(byMs),
    }));
  const out = outgoing(settings.privateHosts, settings.proxy);
  const traces = settings.tracesUrl === null ? noTraces : await openTraces(settings.tracesUrl, { version: PACKAGE.version, instance: folder.instanceId });
  const send = tracedSend(traces, joints.send?.(out.send) ?? out.send);
  const ports: Ports = { clock, random, send, traces, sleep: joints.time?.sleep ?? sleep, log };
  const plain = openStore(database);
  const renewals = joints.store?.(plain.renewals) ?? plain.renewals;
  const store = { ...plain, renewals, runs: joints.runs?.(plain.runs) ?? plain.runs };
  await ensureInstallation({ store: store.installation, master, publicUrl: settings.publicUrl, ports });
  const former = formerMasterKey(settings);
  const { sealer, activityKey, isChanged } = await openSealer({ store, master, former, ports });
  const publicUrl = await agreeOnPublicUrl(settings, store, log);

  const told = changes({ store: store.changes, ports });
  told.onChange((kind) => {
    if (kind === 'keys') void sealer.refresh();
  });
  const stream = settings.activityFile === null ? null : entryStream({ path: settings.activityFile, log });
  const past = history({ store: store.history, chains: store.chains, key: activityKey, stream, ports });
  jumped = (byMs) => void afterJump({ renewals, history: past, limits: settings.limits, ports }, byMs);
  await afterJump({ renewals, history: past, limits: settings.limits, ports }, 0); // it may have been set while nobody ran
  const secrets = clientSecrets({ store: store.secrets, sealer, history: past, changes: told, ports });
  const definitionsInUse = definitions(store.providers);
  const contexts = grantContexts(store, secrets, definitionsInUse);
  const cache = tokenCache();
  if (isChanged) {
    past.add({
      actor: 'service',
      kind: 'master_key_changed',
      subject: 'installation',
      says: `Changed the master key from ${former?.name ?? ''} to ${master.name}.`,
    });
    log.warn({ event: 'keys.master_changed', from: former?.name, to: master.name }, 'the master key was changed; give the new one to every replica');
  }
  const files = spill({ folder: folder.path, master, former, ports });
  const spilled = joints.spill?.(files) ?? files;
  const reserve = spares({ store: store.spares, renewals, sealer });
  const keeper = answerKeeper({ store: renewals, sealer, spill: spilled, spares: reserve, ports });
  const wire = wireLog({ store: store.wireLog, ports });
  const lane = lanes({ ...DEFAULT_LANES, originMost: settings.originConcurrency, clientMost: settings.clientConcurrency });
  const seen = sightings({ store: store.sightings, ports });
  const hold = await installationHold({ store: store.installation, changes: told, history: past, ports });
  let personMoved = async (_one: ListedConnection): Promise<void> => undefined;
  const states = connectionStates({ store, personChanged: (one) => personMoved(one), ports });
  const clients = clientHealth({ clients: store.clients, renewals, states, history: past, changes: told, limits: settings.limits, clock });
  const noteEvidence = async (id: string, evidence: string | null) => store.grants.change(id, { evidence: evidence?.slice(0, 500) ?? null });
  let openSince = (): number | null => null;
  const replica = await beginLife({
    store: store.replicas,
    clock,
    limits: settings.limits,
    ports,
    instanceId: folder.instanceId,
    lifeId,
    openSince: () => openSince(),
  });
  const holding = holders({ store: store.replicas, limits: settings.limits, me: lifeId, contactSince: replica.contactSince });
  const engine = renewalEngine({
    me: lifeId,
    store: renewals,
    states,
    sealer,
    contexts,
    keeper,
    spares: reserve,
    holders: holding,
    cache,
    clients,
    secrets,
    lanes: lane,
    hold,
    wireLog: wire,
    sightings: seen,
    history: past,
    limits: settings.limits,
    ports,
    noteEvidence,
    noteApiBase: async ({ id, connection }, address) => {
      await store.grants.change(id, { apiBaseUrl: address });
      await told.announce('connection', connection); // callers get the address with the token
    },
  });
  openSince = engine.openSince;
  const handOut = handout({ store: renewals, sealer, cache, engine, ports });
  const tokens = apiTokens({ handout: handOut, sessions: apiSessions({ store: store.apiSessions, sealer, handout: handOut, ports, me: lifeId }) });
  const shares = quotas({ store: store.quotas, changes: told, ports });
  const [reading, hashes, tables] = [documents(), hashing(), writing()];
  const stopping = new AbortController();
  setMaxListeners(0, stopping.signal); // everything that runs in rounds listens
  const letters = mail({ store: store.mails, sealer, settings, ports });
  const parts: HttpParts = {
    settings: { ...settings, publicUrl },
    store,
    connectionStates: states,
    sealer,
    history: past,
    hourFigures: hourFigures(store.statistics),
    changes: told,
    contexts,
    cache,
    clientHealth: clients,
    clientSecrets: secrets,
    definitions: definitionsInUse,
    engine,
    lanes: lane,
    hold,
    wireLog: wire,
    sightings: seen,
    keeper,
    spares: reserve,
    spill: spilled,
    recover: (path, instanceId) => recoverFormerLives({ ...recovery(), spill: spill({ folder: path, master, former, ports }), instanceId }),
    apiTokens: tokens,
    quotas: shares,
    documents: reading,
    writing: tables,
    jobBell: bell(ports),
    mail: letters,
    ports,
    version: PACKAGE.version,
    activityKey,
    instanceId: folder.instanceId,
    master,
    stopping: stopping.signal,
    drift: () => (settings.bundleFolder === null ? Promise.resolve(null) : driftFrom(parts, settings.bundleFolder)),
    logLevel: logLevelSwitch({ log, usual: settings.logLevel, changes: told, clock }),
  };
  const formerUrl = (await store.installation.read())?.formerUrl ?? null;
  // Its own address, and that of the installation whose backup was restored, may be private ones.
  const fenceOut = outgoing(
    [...settings.privateHosts, ...[publicUrl, formerUrl].flatMap((url) => (url === null ? [] : [new URL(url).hostname]))],
    settings.proxy,
  );
  const fenced = fence({
    ...{ store: store.installation, hold, history: past, idle: () => engine.idle(), isBusy: renewals.underWay, send: fenceOut.send },
    ...{ key: fenceKey(activityKey), publicUrl, ports },
  });
  const counts = usage({ store, ports });
  const relays = relayed({ store: store.relayed, ports });
  const people = operators({ store, sealer, history: past, hashing: hashes, ports, publicUrl });
  const identity = identitySignIn({ store, operators: people, sealer, history: past, send, publicUrl, ports });
  const agreed = consents(parts, (consent, outcome) => personConsented(parts, consent, outcome));
  personMoved = (one) => personChanged(parts, one);

  const recovery = (): Omit<RecoveryParts, 'spill' | 'instanceId'> => ({
    store: renewals,
    keeper,
    contexts,
    limits: settings.limits,
    ports,
    lifeId,
    resumeFirst: (answer, first) => resumeFirst(parts, answer, first),
  });
  await recoverFormerLives({ ...recovery(), spill: spilled, instanceId: folder.instanceId });
  await replica.recovered();
  const worker = keepRenewing({ engine, spares: reserve, concurrency: settings.concurrency, pollMs: settings.limits.pollMs, ports }, stopping.signal);

  const watchers = [
    watchApprovals(parts, settings.approvalCheckMs, stopping.signal),
    pollDevices(parts, agreed, stopping.signal),
    keepRevoking(parts, stopping.signal),
    keepTidy({ ...parts, instanceId: folder.instanceId }, stopping.signal),
    states.run(stopping.signal),
    runJobs(parts, stopping.signal),
    deliverEvents(parts, stopping.signal),
    runCampaigns(parts, stopping.signal),
    letters.run(stopping.signal),
    keepNotices(parts, stopping.signal),
    sendNotices(parts, stopping.signal),
    keepResealing(parts, stopping.signal),
    keepBackups(parts, stopping.signal),
    fenced.run(stopping.signal),
  ];

  const front = openFront({
    rooms: parts,
    usage: counts,
    relayed: relays,
    operators: people,
    consents: agreed,
    fence: fenced,
    identity,
    dispatcher: out.dispatcher,
  });
  const { server } = front;
  // Before anybody can ask whether it is there; a second process would take the first one's link back.
  if (settings.isFirstProcess) await rescueOperator(people, folder, settings.rescue, log);
  const firstOperatorFile = settings.isFirstProcess ? await offerFirstOperator(people, folder, publicUrl) : null;
  try {
    await listen(server, settings);
  } catch (error) {
    stopping.abort();
    throw error; // the process ends with it: what was started here holds nothing yet
  }
  log.info({ event: 'service.ready', publicUrl, incarnation: replica.incarnation, database: own ? 'private' : 'given' }, 'ready');

  let stopped: Promise<void> | null = null;
  const stop = async (): Promise<void> => {
    stopping.abort();
    const drained = front.drain(STOP_DRAIN_MS);
    await Promise.all([worker, ...watchers]);
    await pTimeout(Promise.all([engine.idle(), agreed.idle()]), { milliseconds: STOP_IDLE_MS, message: false });
    // An answer that is in memory alone is worth waiting for: losing it costs a person's consent.
    if (keeper.unsaved() > 0) log.error({ event: 'service.stop_waits', unsaved: keeper.unsaved() }, 'stopping waits: answers are not saved yet');
    for await (const _ of looks({ withinMs: STOP_UNSAVED_MS, everyMs: 100 })) if (keeper.unsaved() === 0) break;
    await drained;
    front.stop();
    told.stop();
    parts.logLevel.stop();
    clock.stop();
    await Promise.all([counts.stop(), relays.stop(), shares.stop(), past.stop(), wire.stop(), sealer.stop(), reading.stop(), hashes.stop(), tables.stop()]);
    await replica.stop(keeper.unsaved() === 0 && spilled.waiting() === 0);
    await traces.stop();
    await out.close();
    await fenceOut.close();
    await database.close();
    await own?.stop();
    await folder.release();
    log.info({ event: 'service.stopped' }, 'stopped');
  };
  return { publicUrl, firstOperatorFile, privateDatabase: own?.url ?? null, isBusy: store.rehearsals.underWay, stop: () => (stopped ??= stop()) };
}
