import { readFileSync } from 'node:fs';
import type { Logger } from 'pino';
import type { Send } from '../../core/oauth/wire.ts';
import type { MasterKey } from '../../core/sealing/master-key.ts';
import { afterJump, type DatabaseClock, type DataFolder, databaseClock, type PrivateMariadb, standingClock } from '../database/index.ts';
import { rememberingEntered } from '../entered.ts';
import { type Changes, changes, entryStream, type History, history } from '../history/index.ts';
import { formerMasterKey } from '../master-key.ts';
import { type Outgoing, outgoing } from '../outgoing/index.ts';
import { type Ports, random, sleep } from '../ports.ts';
import { type NewestAnswers, newestAnswers } from '../renewal/index.ts';
import { type SealedStore, withSealedDocuments } from '../sealed-documents.ts';
import { ensureInstallation, openSealer, type Sealer } from '../sealer.ts';
import type { Settings } from '../settings.ts';
import { agreeOnPublicUrl } from '../start-up.ts';
import type { Database } from '../store/database.ts';
import { openStore } from '../store/store.ts';
import { noTraces, openTraces, tracedSend } from '../traces.ts';
import type { TestHooks } from './test-hooks.ts';

export const VERSION = (JSON.parse(readFileSync(new URL('../../../package.json', import.meta.url), 'utf8')) as { version: string }).version;

/** What is there before anything is joined: opened, and owned by this process. */
export interface Opened {
  settings: Settings;
  log: Logger;
  folder: DataFolder;
  /** The private database; null: the database is given. */
  own: PrivateMariadb | null;
  master: MasterKey;
  database: Database;
  lifeId: string;
}

/** What every part depends on: ports to the world, the store, the sealer, and the record of what changed. */
export interface Base extends Opened {
  former: MasterKey | null;
  publicUrl: string;
  /** Restored for practice: nothing is sent, and nothing runs in rounds. */
  isPractice: boolean;
  clock: DatabaseClock;
  out: Outgoing;
  ports: Ports;
  store: SealedStore;
  sealer: Sealer;
  newest: NewestAnswers;
  activityKey: Uint8Array;
  changes: Changes;
  history: History;
}

const sendsNothing: Send = async () => ({ kind: 'unsent', reason: 'practice', tookMs: 0 });

export async function openBase(opened: Opened, testHooks: TestHooks): Promise<Base> {
  const { settings, log, folder, master, database } = opened;
  let jumped = (byMs: number): void => log.warn({ event: 'database.clock_changed', byMs }, 'the database clock was changed');
  const clock =
    (testHooks.time && standingClock(testHooks.time.now)) ??
    (await databaseClock(database, {
      onError: (cause) => log.debug({ event: 'database.clock_not_read', cause: String(cause) }, 'database clock not read'),
      onJump: (byMs) => jumped(byMs),
    }));
  const out = outgoing(settings.privateHosts, settings.proxy);
  const plain = openStore(database);
  const isPractice = (await plain.installation.read())?.practice ?? false;
  const traces = settings.tracesUrl === null || isPractice ? noTraces : await openTraces(settings.tracesUrl, { version: VERSION, instance: folder.instanceId });
  const send = isPractice ? sendsNothing : tracedSend(traces, testHooks.send?.(out.send) ?? out.send);
  const ports: Ports = { clock, random, send, traces, sleep: testHooks.time?.sleep ?? sleep, log };
  await ensureInstallation({ store: plain.installation, master, publicUrl: settings.publicUrl, ports });
  const former = formerMasterKey(settings);
  const newest = await newestAnswers({
    ...{ folder: folder.path, installationId: (await plain.installation.read())?.installationId ?? '', master, former, ports },
    ...settings.answers,
  });
  const renewals = testHooks.store?.(plain.renewals) ?? plain.renewals;
  const bare = { ...plain, renewals, runs: testHooks.runs?.(plain.runs) ?? plain.runs };
  const { sealer, activityKey, isChanged } = await openSealer({ store: bare, master, former, ports });
  const store = rememberingEntered(withSealedDocuments(bare, sealer), { newest, sealer });
  const publicUrl = await agreeOnPublicUrl(settings, store, log);

  const told = changes({ store: store.changes, ports });
  told.onChange((kind) => {
    if (kind === 'keys') void sealer.refresh();
  });
  const stream = settings.activityFile === null ? null : entryStream({ path: settings.activityFile, log });
  const past = history({ store: store.history, chains: store.chains, key: activityKey, stream, ports });
  const jump = { renewals: store.renewals, history: past, limits: settings.limits, ports };
  jumped = (byMs) => void afterJump(jump, byMs);
  await afterJump(jump, 0); // it may have been set while nobody ran
  if (isChanged) {
    past.add({
      actor: 'service',
      kind: 'master_key_changed',
      subject: 'installation',
      says: `Changed the master key from ${former?.name ?? ''} to ${master.name}.`,
    });
    log.warn({ event: 'keys.master_changed', from: former?.name, to: master.name }, 'the master key was changed; give the new one to every replica');
  }
  return {
    ...opened,
    ...(isPractice && { settings: { ...settings, mail: null, scriptsFolder: null, outputFolder: null } }),
    former,
    publicUrl,
    isPractice,
    clock,
    out,
    ports,
    store,
    sealer,
    newest,
    activityKey,
    changes: told,
    history: past,
  };
}
