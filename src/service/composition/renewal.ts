import { Fault } from '../../core/fault.ts';
import { DEFAULT_LANES, lanes } from '../../core/renewal/lanes.ts';
import {
  answerKeeper,
  clientHealth,
  clientSecrets,
  connectionStates,
  definitions,
  type Ground,
  grantContexts,
  ground,
  holders,
  type InstallationHold,
  installationHold,
  renewalEngine,
  sightings,
  spares,
  spill,
  tokenCache,
  wireLog,
} from '../renewal/index.ts';
import { beginLife } from '../replicas/index.ts';
import type { ListedConnection } from '../store/connection-rows.ts';
import { type ApiTokens, apiSessions, apiTokens, issuance } from '../tokens/index.ts';
import type { Base } from './base.ts';
import type { TestHooks } from './test-hooks.ts';

export type Renewal = Awaited<ReturnType<typeof joinRenewal>>;

/** The engine with all that it depends on, and what issues tokens from it. Renewing begins with `keepRenewing`. */
export async function joinRenewal(base: Base, testHooks: TestHooks) {
  const { settings, folder, master, former, clock, lifeId, ports, store, sealer, newest, changes, history, isPractice } = base;
  const { limits } = settings;
  const secrets = clientSecrets({ store: store.secrets, sealer, history, changes, ports });
  const definitionsInUse = definitions(store.providers);
  const contexts = grantContexts(store, secrets, definitionsInUse);
  const cache = tokenCache();
  const files = spill({ folder: folder.path, master, former, ports });
  const spilled = testHooks.spill?.(files) ?? files;
  const reserve = spares({ store: store.spares, renewals: store.renewals, sealer });
  const keeper = answerKeeper({ store: store.renewals, sealer, spill: spilled, newest, spares: reserve, ports });
  const wire = wireLog({ store: store.wireLog, ports });
  const lane = lanes({ ...DEFAULT_LANES, originMost: settings.originConcurrency, clientMost: settings.clientConcurrency });
  const seen = sightings({ store: store.sightings, ports });
  const firm = await ground({ store: store.marks, newest, changes, history, limits, instanceId: folder.instanceId, ports });
  const copies = await installationHold({ store: store.installation, changes, history, isContinued: firm.isContinued, ports });
  const hold = heldByEither(copies, firm);
  let personMoved = async (_one: ListedConnection): Promise<void> => undefined;
  const states = connectionStates({ store, personChanged: (one) => personMoved(one), ports });
  const clients = clientHealth({ clients: store.clients, renewals: store.renewals, states, history, changes, limits, clock });
  let openSince = (): number | null => null;
  const replica = await beginLife({
    ...{ store: store.replicas, clock, limits, ports, instanceId: folder.instanceId, lifeId },
    openSince: () => openSince(),
    known: firm.known,
  });
  const engine = renewalEngine({
    ...{ me: lifeId, store: store.renewals, states, sealer, contexts, keeper, spares: reserve, cache, clients, secrets },
    ...{ lanes: lane, hold, newest, ground: firm, wireLog: wire, sightings: seen, history, limits, ports },
    holders: holders({ store: store.replicas, limits, me: lifeId, contactSince: replica.contactSince }),
    noteEvidence: (id, evidence) => store.grants.change(id, { evidence: evidence?.slice(0, 500) ?? null }),
    noteApiBase: async ({ id, connection }, address) => {
      await store.grants.change(id, { apiBaseUrl: address });
      await changes.announce('connection', connection); // callers get the address with the token
    },
  });
  openSince = engine.openSince;
  const issuing = issuance({ store: store.renewals, sealer, cache, engine, ports });
  const sessions = apiSessions({ store: store.apiSessions, sealer, issuance: issuing, ports, me: lifeId });
  return {
    ...{ secrets, definitions: definitionsInUse, contexts, cache, spilled, spares: reserve, keeper, wireLog: wire, lanes: lane },
    ...{ sightings: seen, hold, copies, ground: firm, states, clients, replica, engine },
    tokens: isPractice ? NO_TOKENS : apiTokens({ issuance: issuing, sessions }),
    /** Another person's connection changed its state: told to whoever takes an interest, which is joined later. */
    onPersonMoved(work: (one: ListedConnection) => Promise<void>): void {
      personMoved = work;
    },
  };
}

const NO_TOKENS: ApiTokens = {
  ready: () => null,
  get: () => Promise.reject(new Fault('PRACTICE_RESTORE')),
};

/** Renewals are on hold because of another installation, or because the database went back. */
const heldByEither = (copies: InstallationHold, firm: Ground): InstallationHold => ({
  ...copies,
  isHeld: () => copies.isHeld() || firm.isHeld(),
  async state() {
    const [state, lost] = [await copies.state(), firm.why()];
    return state.held || lost === null ? state : { held: true, why: lost.why, heldAt: lost.since };
  },
  async own(operator) {
    await firm.accept(operator);
    await copies.own(operator);
  },
});
