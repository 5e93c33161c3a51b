import { setTimeout as sleep } from 'node:timers/promises';
import type { ApiClient } from '../../src/api/client.ts';
import type { ServiceUnderTest } from '../../testing/service.ts';
import { eventually } from '../../testing/waiting.ts';
import { addClient, addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startBerthline, startEelgrass } from '../support/harbour.ts';

const LIFE_SECONDS = 6;
const OF_EACH = 5;
const STRICT = Array.from({ length: OF_EACH }, (_one, at) => `strict-${at + 1}`);
const GRACE = Array.from({ length: OF_EACH }, (_one, at) => `grace-${at + 1}`);
const ALL = [...STRICT, ...GRACE];
const SETTLE_MS = 90_000;

/** The two simulated providers, which count each second use of a refresh token. */
export interface Providers {
  strict: StandinUnderTest;
  grace: StandinUnderTest;
  stop(): Promise<void>;
}
export async function startProviders(): Promise<Providers> {
  const [strict, grace] = [await startBerthline(LIFE_SECONDS), await startEelgrass(LIFE_SECONDS)];
  return {
    ...{ strict, grace },
    async stop() {
      await strict.stop();
      await grace.stop();
    },
  };
}

/** What serves at the moment; a move replaces it. */
export interface Serving {
  replicas: ServiceUnderTest[];
  call: ApiClient;
  publicUrl: string;
}
export interface Verdict {
  good: boolean;
  text: string;
}

/** Connections of both kinds, tokens for a caller all the time, then what happens; until every connection was renewed again. */
export async function judge(serving: Serving, { strict, grace }: Providers, happens: () => Promise<void>): Promise<Verdict> {
  const caller = await setUp(serving.call, strict, grace);
  let isOver = false;
  const tokens = { good: 0, later: 0, refused: 0 };
  const load = (async () => {
    for (let at = 0; !isOver; at += 1) {
      const replica = serving.replicas[at % serving.replicas.length] as ServiceUnderTest;
      const resource = `${serving.publicUrl}/connections/${ALL[at % ALL.length]}`;
      // One that is being replaced does not answer: callers try again.
      const { status } = await fetchToken(replica.url, caller.caller_id, caller.key, resource).catch(() => ({ status: 503 }));
      if (status === 200) tokens.good += 1;
      else if (status === 503) tokens.later += 1;
      else tokens.refused += 1;
      await sleep(20);
    }
  })();
  try {
    await sleep(10_000);
    await happens();
    const startedAt = Date.now();
    const isRenewed = async (connection: string): Promise<boolean> => {
      const { state, life } = await serving.call('showConnection', { params: { connection } });
      return state === 'working' && Date.parse(life?.issued_at ?? '') > startedAt;
    };
    let missing = [...ALL];
    await eventually(
      async () => {
        const still: string[] = [];
        for (const connection of missing) if (!(await isRenewed(connection).catch(() => false))) still.push(connection);
        missing = still;
        return missing.length === 0;
      },
      SETTLE_MS,
      'a renewal of every connection',
    ).catch(() => undefined); // those that are missing are in the verdict
    const tookS = (Date.now() - startedAt) / 1_000;
    isOver = true;
    await load;
    let reuses = 0;
    for (const one of [strict, grace]) {
      const { counters } = await one.counters();
      reuses += (counters.reuse ?? 0) + (counters.reuse_in_grace ?? 0);
    }
    const needPerson = (await serving.call('listConnections')).items.filter((one) => one.state === 'action_needed').length;
    const events = (await serving.call('listHistory', { query: { subject: 'installation', limit: 50 } })).items.map((one) => one.kind);
    return {
      good: reuses === 0 && needPerson === 0 && missing.length === 0 && tokens.refused === 0,
      text: [
        `second uses ${reuses}, connections that need a person ${needPerson}, not renewed again ${missing.length}`,
        `all renewed after ${tookS.toFixed(1)} s, tokens ${tokens.good} issued, ${tokens.later} later, ${tokens.refused} refused`,
        ...(events.includes('database_went_back') ? ['noticed'] : []),
      ].join('; '),
    };
  } finally {
    isOver = true;
  }
}

async function setUp(call: ApiClient, strict: StandinUnderTest, grace: StandinUnderTest) {
  await call('addProvider', { body: { document: strict.definitionText } });
  await addClient(call, strict, 'berths', { provider: 'berthline', placeholders: { region: 'north' } });
  await addEelgrass(call, grace);
  for (const name of STRICT) await addConnection(call, name, ['bookings.read', 'profile'], 'berths', 'berthline');
  for (const name of GRACE) await addConnection(call, name);
  for (const name of ALL) await agree(call, name);
  return call('addCaller', { body: { name: 'board', connections: ALL } });
}
