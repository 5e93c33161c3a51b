import { fenceKey } from '../../core/fence/fence.ts';
import { driftFrom } from '../bundle/index.ts';
import { type Consents, consents } from '../consent/index.ts';
import { type Fence, fence } from '../fence/index.ts';
import { resumeFirst } from '../grants/index.ts';
import type { HttpParts } from '../http/index.ts';
import { type IdentitySignIn, identitySignIn } from '../identity/index.ts';
import { bell } from '../jobs/index.ts';
import { logLevelSwitch } from '../log-level.ts';
import { type Mail, mail } from '../mail/index.ts';
import { type Operators, operators } from '../operators/index.ts';
import { type Outgoing, outgoing } from '../outgoing/index.ts';
import { personChanged, personConsented } from '../people/index.ts';
import { quotas } from '../quotas/index.ts';
import { type Relayed, relayed } from '../relay/index.ts';
import { spill } from '../renewal/index.ts';
import { type RecoveryParts, recoverFormerLives } from '../replicas/index.ts';
import { hourFigures } from '../status/index.ts';
import { type Usage, usage } from '../usage/index.ts';
import { documents, hashing, writing } from '../workers/index.ts';
import { type Base, VERSION } from './base.ts';
import type { Renewal } from './renewal.ts';

/** Threads beside the main one. */
type Workers = ReturnType<typeof startWorkers>;
const startWorkers = () => ({ documents: documents(), hashing: hashing(), writing: writing() });

/** The rooms of the house, joined over the base and the renewal engine. Nothing runs yet. */
export interface Rooms {
  parts: HttpParts;
  usage: Usage;
  relayed: Relayed;
  operators: Operators;
  identity: IdentitySignIn;
  consents: Consents;
  fence: Fence;
  fenceOut: Outgoing;
  mail: Mail;
  workers: Workers;
  recovery: Omit<RecoveryParts, 'spill' | 'instanceId'>;
}

export async function joinRooms(base: Base, renewal: Renewal, stopping: AbortSignal): Promise<Rooms> {
  const { settings, publicUrl, ports, store, sealer, history, lifeId } = base;
  const letters = mail({ store: store.mails, sealer, settings, ports });
  const workers = startWorkers();
  const parts = partsOf(base, renewal, { mail: letters, workers, stopping, recovery: () => recovery });
  const recovery: Rooms['recovery'] = {
    ...{ store: store.renewals, keeper: renewal.keeper, contexts: renewal.contexts, limits: settings.limits, ports, lifeId },
    resumeFirst: (answer, first) => resumeFirst(parts, answer, first),
  };
  const people = operators({ store, sealer, history, hashing: workers.hashing, ports, publicUrl });
  renewal.onPersonMoved((one) => personChanged(parts, one));
  return {
    parts,
    usage: usage({ store, ports }),
    relayed: relayed({ store: store.relayed, ports }),
    operators: people,
    identity: identitySignIn({ store, operators: people, sealer, history, send: ports.send, publicUrl, ports }),
    consents: consents(parts, (consent, outcome) => personConsented(parts, consent, outcome)),
    ...(await fenceOf(base, renewal)),
    mail: letters,
    workers,
    recovery,
  };
}

interface Late {
  mail: Mail;
  workers: Workers;
  stopping: AbortSignal;
  recovery(): Rooms['recovery'];
}

function partsOf(base: Base, renewal: Renewal, { mail, workers, stopping, recovery }: Late): HttpParts {
  const { settings, publicUrl, folder, master, former, clock, log, ports, store, sealer, activityKey, changes, history } = base;
  const { contexts, cache, definitions, engine, lanes, hold, wireLog, sightings, keeper, spares } = renewal;
  const parts: HttpParts = {
    ...{ store, sealer, history, changes, ports, activityKey, master, mail, stopping, version: VERSION, instanceId: folder.instanceId },
    settings: { ...settings, publicUrl },
    ...{ contexts, cache, definitions, engine, lanes, hold, wireLog, sightings, keeper, spares },
    ...{ connectionStates: renewal.states, clientHealth: renewal.clients, clientSecrets: renewal.secrets, spill: renewal.spilled, apiTokens: renewal.tokens },
    hourFigures: hourFigures(store.statistics),
    quotas: quotas({ store: store.quotas, changes, ports }),
    documents: workers.documents,
    writing: workers.writing,
    jobBell: bell(ports),
    recover: (path, instanceId) => recoverFormerLives({ ...recovery(), spill: spill({ folder: path, master, former, ports }), instanceId }),
    drift: () => (settings.bundleFolder === null ? Promise.resolve(null) : driftFrom(parts, settings.bundleFolder)),
    logLevel: logLevelSwitch({ log, usual: settings.logLevel, changes, clock }),
  };
  return parts;
}

/** Its own address, and that of the installation whose backup was restored, may be private ones: it has a way out of its own. */
async function fenceOf({ settings, publicUrl, ports, store, history, activityKey }: Base, { hold, engine }: Renewal) {
  const formerUrl = (await store.installation.read())?.formerUrl ?? null;
  const hosts = [publicUrl, formerUrl].flatMap((url) => (url === null ? [] : [new URL(url).hostname]));
  const fenceOut = outgoing([...settings.privateHosts, ...hosts], settings.proxy);
  const fenced = fence({
    ...{ store: store.installation, hold, history, idle: () => engine.idle(), isBusy: store.renewals.underWay, send: fenceOut.send },
    ...{ key: fenceKey(activityKey), publicUrl, ports },
  });
  return { fence: fenced, fenceOut };
}
