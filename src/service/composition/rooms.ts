import { fenceKey } from '../../core/fence/fence.ts';
import { driftFrom } from '../bundle/index.ts';
import { type Consents, consents } from '../consent/index.ts';
import { putBackEntered } from '../entered.ts';
import { type Fence, fence, type TransferPage } from '../fence/index.ts';
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
import { newestAnswers, type SpilledAnswer, spill } from '../renewal/index.ts';
import { putBackOf, putBackThese, type RecoveryParts, recoverFormerLives } from '../replicas/index.ts';
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
  recovery: Omit<RecoveryParts, 'spill' | 'instanceId' | 'putBack'>;
}

export async function joinRooms(base: Base, renewal: Renewal, stopping: AbortSignal): Promise<Rooms> {
  const { settings, publicUrl, ports, store, sealer, history, lifeId } = base;
  const letters = mail({ store: store.mails, sealer, settings, ports });
  const workers = startWorkers();
  const fenced = await fenceOf(base, renewal, () => recovery);
  const parts = partsOf(base, renewal, { mail: letters, workers, stopping, fence: fenced.fence, recovery: () => recovery });
  const recovery: Rooms['recovery'] = {
    ...{ store: store.renewals, keeper: renewal.keeper, contexts: renewal.contexts, limits: settings.limits, ports, lifeId },
    resumeFirst: (answer, first, than) => resumeFirst(parts, answer, first, than),
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
    ...fenced,
    mail: letters,
    workers,
    recovery,
  };
}

interface Late {
  mail: Mail;
  workers: Workers;
  stopping: AbortSignal;
  fence: Fence;
  recovery(): Rooms['recovery'];
}

function partsOf(base: Base, renewal: Renewal, { mail, workers, stopping, fence, recovery }: Late): HttpParts {
  const { settings, publicUrl, folder, master, clock, log, ports, store, sealer, activityKey, changes, history } = base;
  const { contexts, cache, definitions, engine, lanes, hold, wireLog, sightings, keeper, spares } = renewal;
  const parts: HttpParts = {
    ...{
      store,
      sealer,
      history,
      changes,
      ports,
      activityKey,
      master,
      mail,
      stopping,
      refusals: base.database.refusals,
      isPractice: base.isPractice,
      version: VERSION,
      instanceId: folder.instanceId,
    },
    settings: { ...settings, publicUrl },
    ...{ contexts, cache, definitions, engine, lanes, hold, wireLog, sightings, keeper, spares },
    ...{ connectionStates: renewal.states, clientHealth: renewal.clients, clientSecrets: renewal.secrets, spill: renewal.spilled, apiTokens: renewal.tokens },
    hourFigures: hourFigures(store.statistics),
    quotas: quotas({ store: store.quotas, changes, ports }),
    documents: workers.documents,
    writing: workers.writing,
    jobBell: bell(ports),
    moveHere: fence.moveHere,
    recover: (path, instanceId) => adopted({ base, renewal, recovery: recovery() }, path, instanceId),
    drift: () => (settings.bundleFolder === null ? Promise.resolve(null) : driftFrom(parts, settings.bundleFolder)),
    logLevel: logLevelSwitch({ log, usual: settings.logLevel, changes, clock }),
  };
  return parts;
}

/** What the folder of a replica that will not come back holds: what it spilled, and its newest answers. */
async function adopted(
  { base, renewal, recovery }: { base: Base; renewal: Renewal; recovery: Rooms['recovery'] },
  path: string,
  instanceId: string,
): Promise<{ saved: number; freed: number }> {
  const { master, former, ports, store, settings, sealer } = base;
  const installationId = (await store.installation.read())?.installationId ?? '';
  const newest = await newestAnswers({ folder: path, installationId, master, former, ports, ...settings.answers });
  const saving = { ...recovery, sealer, moved: movedIn(renewal) };
  try {
    const own = spill({ folder: path, master, former, ports });
    const found = await recoverFormerLives({ ...recovery, spill: own, instanceId, putBack: putBackOf(saving, newest) });
    let putBack = await putBackEntered({ ...saving, store, newest });
    for await (const answer of newest.all()) putBack += (await putBackThese(saving, [answer])).putBack;
    return { saved: found.saved + putBack, freed: found.freed };
  } finally {
    await newest.stop();
  }
}

/** A grant got another token from elsewhere. */
export const movedIn =
  ({ cache, states }: Pick<Renewal, 'cache' | 'states'>) =>
  (grantId: string): void => {
    cache.drop(grantId);
    states.touch(grantId);
  };

/** The present tokens of grants, for a copy to which this installation gives way. */
async function presentAnswers({ store, sealer }: Pick<Base, 'store' | 'sealer'>, after: string | null, most: number): Promise<TransferPage> {
  const rows = await store.renewals.present(after, most);
  const answers = await Promise.all(
    rows.map(async ({ grantId, row, accessSealed, refreshSealed }): Promise<SpilledAnswer> => {
      const opened = (column: string, sealed: Buffer) => sealer.open({ table: 'tokens', row: grantId, column }, sealed);
      const tokens = { access: await opened('access_sealed', accessSealed), refresh: refreshSealed && (await opened('refresh_sealed', refreshSealed)) };
      const life = { issuedAt: row.issuedAt, expiresAt: row.expiresAt };
      return { grantId, epoch: row.epoch, generation: row.generation, life, tokens: { ...tokens, lifeMs: life.expiresAt - life.issuedAt, scopes: null } };
    }),
  );
  return { answers, next: rows.length < most ? null : (rows.at(-1)?.grantId ?? null) };
}

/** Its own address, and that of the installation whose backup was restored, may be private ones: it has a way out of its own. */
async function fenceOf(base: Base, renewal: Renewal, recovery: () => Rooms['recovery']) {
  const { settings, publicUrl, ports, store, sealer, history, activityKey } = base;
  const { copies, engine } = renewal;
  const formerUrl = (await store.installation.read())?.formerUrl ?? null;
  const hosts = [publicUrl, formerUrl].flatMap((url) => (url === null ? [] : [new URL(url).hostname]));
  const fenceOut = outgoing([...settings.privateHosts, ...hosts], settings.proxy);
  const fenced = fence({
    ...{ store: store.installation, hold: copies, history, idle: () => engine.idle(), isBusy: store.renewals.underWay, send: fenceOut.send },
    ...{ key: fenceKey(activityKey), publicUrl, ports },
    newest: (after, most) => presentAnswers(base, after, most),
    putBack: (answers) => putBackThese({ ...recovery(), sealer, moved: movedIn(renewal) }, answers),
  });
  return { fence: fenced, fenceOut };
}
