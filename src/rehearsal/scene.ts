import { ProblemError } from '../api/client.ts';
import type { RehearsalPlan } from '../api/rehearsals.ts';
import { isClientsOwn, isKey } from '../core/oauth/grant-kinds.ts';
import { readDefinition } from '../core/provider/read-definition.ts';
import type { RegisteredClient } from '../standins/state.ts';
import { type PlayOptions, playInvitation, playOpened, registerAtStandin } from '../standins/visitor.ts';
import type { Stage } from './stage.ts';
import { Standin } from './standin.ts';

/** The installation as it was rebuilt on a stage: what stands, and what could not be rebuilt. */
export interface Scene {
  connections: SceneConnection[];
  clients: SceneClient[];
  callers: { name: string; id: string; key: string; uses: string[] }[];
  jobs: string[];
  leftOut: RehearsalPlan['leftOut'];
}
export interface SceneConnection {
  /** As callers name it: a person of a shared connection is NAME and the person's key. */
  name: string;
  plan: RehearsalPlan['connections'][number];
  person: string | null;
  /** The path of an API call that only reads; null: the definition names none that its scopes allow. */
  reads: string | null;
}
export interface SceneClient {
  plan: RehearsalPlan['clients'][number];
  /** As the simulated provider knows it. */
  registered: RegisteredClient;
}

/** People of a shared connection who are played. */
const PEOPLE = ['rehearsal-1', 'rehearsal-2'];
const ACCOUNTS = ['eg-1042', 'eg-1077'] as const;
const ACCOUNT_MAIL = 'marit.holm@saltmarsh.example';
const CONSENT_WITHIN_MS = 15_000;
const SECRET_IS_OLD = 'Its secret had expired.';

/** Rebuilds the plan on a stage, through the API as an operator would. */
export async function buildScene(stage: Stage, plan: RehearsalPlan, doing: (done: number, what: string) => void): Promise<Scene> {
  const scene: Scene = { connections: [], clients: [], callers: [], jobs: [], leftOut: [...plan.leftOut, ...stage.leftOut] };
  const total = plan.clients.length + plan.connections.length + plan.callers.length + plan.jobs.length;
  let done = 0;
  const each = async <T>(all: readonly T[], what: (one: T) => string, build: (one: T) => Promise<unknown>): Promise<void> => {
    for (const one of all) {
      doing(done / Math.max(1, total), what(one));
      try {
        await build(one);
      } catch (error) {
        scene.leftOut.push({ what: what(one), why: whyNot(error) });
      }
      done += 1;
    }
  };
  for (const { name } of plan.providers) {
    const standin = stage.standins.get(name);
    if (standin) await stage.call('addProvider', { body: { document: standin.definitionText } });
  }
  await each(
    plan.clients,
    (one) => `Client ${one.provider}/${one.name}`,
    (one) => addClient(stage, scene, one),
  );
  const has = (one: { provider: string; client: string }) => scene.clients.some(({ plan: of }) => of.provider === one.provider && of.name === one.client);
  await each(
    plan.connections.filter(has),
    (one) => `Connection ${one.name}`,
    (one) => addConnection(stage, scene, one),
  );
  await each(
    plan.callers,
    (one) => `Caller ${one.name}`,
    (one) => addCaller(stage, scene, one),
  );
  await each(
    plan.jobs.filter((job) => scene.connections.some((one) => one.name === job.connection)),
    (one) => `Job ${one.name}`,
    async ({ name, connection, settings }) => {
      await stage.call('addJob', { body: { ...settings, name, connection, deliver: [] } });
      scene.jobs.push(name);
    },
  );
  for (const { name, rule } of plan.channels)
    await stage.call('addChannel', { body: { kind: 'webhook', name, url: `${stage.mailboxUrl}/${encodeURIComponent(name)}`, rule } });
  return scene;
}

function whyNot(error: unknown): string {
  if (!(error instanceof ProblemError)) return error instanceof Error ? error.message.slice(0, 300) : 'It could not be rebuilt.';
  const places = error.problem.places?.map((one) => `${one.path}: ${one.why}`) ?? [];
  return [error.message, ...places].join(' ').slice(0, 300);
}

/** Registers a client at the simulated provider and enters it here, with secrets that expire when the real ones do. */
async function addClient(stage: Stage, scene: Scene, plan: SceneClient['plan']): Promise<void> {
  const { call, clock } = stage;
  const standin = stage.standins.get(plan.provider);
  if (!standin) throw new Error('Its provider is not rehearsed.');
  const { provider, name, type, environment, variant, placeholders } = plan;
  const draft = await call('addClient', { body: { provider, name, type, environment, variant, placeholders } });
  const params = { provider, client: name };
  const dated = plan.secrets.filter((one): one is typeof one & { endsAt: number } => one.endsAt !== null);
  const isDated = dated.length > 0 && dated.length === plan.secrets.length;
  const endsAt = isDated ? Math.max(...dated.map((one) => one.endsAt)) : null;
  if (endsAt !== null && endsAt <= clock.now()) throw new Error(SECRET_IS_OLD);
  const ends_at = endsAt === null ? null : new Date(endsAt).toISOString();
  const byKey = plan.secrets.some((one) => one.kind === 'certificate' || one.kind === 'key') || plan.method === 'private_key_jwt';
  if (plan.method !== null) await call('changeClient', { params, body: { revision: draft.revision, method: plan.method } });
  const pem = byKey ? await madeCertificate(stage, params, ends_at) : '';
  const at = draft.registration_page ?? standin.consolePage;
  const registered = await registerAtStandin(at, name, draft.redirect_uri, { certificate: pem, ...(plan.reach === 'listed' ? { listed: ACCOUNT_MAIL } : {}) });
  const kept = standin.store.state.clients[registered.id];
  if (!kept) throw new Error('The simulated provider did not register it.');
  for (const secret of kept.secrets) secret.endsAt = endsAt;
  if (plan.scopes.length > 0) kept.scopes = [...new Set([...kept.scopes, ...plan.scopes])];
  const { revision } = await call('showClient', { params });
  await call('changeClient', {
    params,
    body: {
      revision,
      client_id: registered.id,
      take_as_is: true,
      reach: plan.reach,
      ...(plan.reach === 'listed' ? { listed_accounts: [ACCOUNT_MAIL] } : {}),
      ...(plan.scopes.length > 0 ? { registered_scopes: plan.scopes } : {}),
      registering: { redirect_uris_there: [draft.redirect_uri] },
    },
  });
  if (plan.method !== 'none' && plan.secrets.length > 0 && !byKey)
    await call('addSecret', { params, body: { secret: registered.secret, ends_at, take_as_is: true } });
  if ((await call('showClient', { params })).approval !== 'not_needed')
    await call('changeClient', { params, body: { revision: (await call('showClient', { params })).revision, approval: 'approved' } });
  scene.clients.push({ plan, registered: kept });
}

/** A certificate made by the service; its public part. */
export async function madeCertificate({ call }: Stage, params: { provider: string; client: string }, ends_at: string | null): Promise<string> {
  const made = await call('makeCertificate', { params, body: { common_name: 'rehearsal', ends_at } });
  const newest = made.secrets.filter((one) => one.kind === 'certificate').sort((a, b) => (a.entered_at < b.entered_at ? 1 : -1))[0];
  return (await call('showCertificate', { params: { ...params, secret: newest?.id ?? '' } })).pem;
}

async function addConnection(stage: Stage, scene: Scene, plan: SceneConnection['plan']): Promise<void> {
  const { name, provider, client, scopes, placeholders, operations, labels, policy, shared, grantKind } = plan;
  const own = isClientsOwn(grantKind) ? grantKind : undefined;
  const reads = readingPath(stage, scene, plan);
  await stage.call('addConnection', {
    body: {
      ...{ name, provider, client, scopes, placeholders, operations, labels, policy, shared, allow_unlisted_scopes: true },
      ...(own ? { grant_type: own } : {}),
      ...(grantKind === 'jwt_bearer' ? { expected_account: ACCOUNT_MAIL } : {}),
    },
  });
  if (shared) {
    for (const [at, person] of PEOPLE.entries()) {
      const { url } = await stage.call('invitePerson', { params: { connection: name }, body: { person, purpose: 'Rehearsal' } });
      await playInvitation(url, { account: ACCOUNTS[at] ?? ACCOUNTS[0] });
      scene.connections.push({ name, plan, person, reads });
    }
    return;
  }
  if (isKey(grantKind)) {
    const { key } = await new Standin(stage.standins.get(provider)).order<{ key: string }>('keys', { account: ACCOUNTS[0] });
    await stage.call('setKey', { params: { connection: name }, body: { key } });
  } else await consent(stage, scene, plan);
  scene.connections.push({ name, plan, person: null, reads });
}

function readingPath(stage: Stage, scene: Scene, { provider, client, scopes, placeholders }: SceneConnection['plan']): string | null {
  const standin = stage.standins.get(provider);
  if (!standin) return null;
  const { apis } = readDefinition(standin.definitionText);
  const probe = apis
    .slice(0, 1)
    .flatMap((api) => api.probes)
    .find((one) => !one.effects && one.method === 'GET' && (one.needs.length === 0 || one.needs.some((need) => scopes.includes(need))));
  if (!probe) return null;
  const values: Record<string, string> = {
    ...scene.clients.find(({ plan }) => plan.provider === provider && plan.name === client)?.plan.placeholders,
    ...placeholders,
  };
  const path = probe.path.replace(/\{(\w+)\}/g, (whole, name: string) => encodeURIComponent(values[name] ?? whole));
  return path.includes('%7B') ? null : path;
}

/** Opens a connection, for the first time or again. Where no consent can be played, a token is imported as from an old script. */
export async function consent(stage: Stage, scene: Scene, plan: SceneConnection['plan'], options: PlayOptions = {}): Promise<void> {
  const { call } = stage;
  const { name, provider, client } = plan;
  const params = { connection: name };
  const known = scene.clients.find(({ plan: of }) => of.provider === provider && of.name === client);
  if (!known) throw new Error('Its client was left out.');
  let why: unknown;
  try {
    const opened = await call('openConnection', { params, body: { end_oldest: true } });
    if (known.plan.type === 'printed_code') {
      const body = { client_id: known.registered.id, account: ACCOUNTS[0] };
      const { code } = await new Standin(stage.standins.get(provider)).order<{ code: string }>('printed-codes', body);
      await call('giveCode', { params: { consent: opened.id }, body: { code } });
    } else if (!opened.by_itself) {
      const played = { account: ACCOUNTS[0], ...options };
      await playOpened(opened, (id, pasted) => call('answerConsent', { params: { consent: id }, body: { pasted } }), played);
    }
    return await untilConsented(stage, opened.id);
  } catch (error) {
    if (isClientsOwn(plan.grantKind) || options.untick) throw error;
    why = error;
  }
  const body = { client_id: known.registered.id, account: ACCOUNTS[0] };
  const { refresh_token } = await new Standin(stage.standins.get(provider)).order<{ refresh_token: string }>('script-tokens', body);
  const imported = await call('importToken', { params, body: { refresh_token } }).catch(() => null); // the first reason is the one that helps
  if (!imported) throw why;
}

async function untilConsented({ call, clock }: Stage, id: string): Promise<void> {
  for (const endsAt = performance.now() + CONSENT_WITHIN_MS; performance.now() < endsAt; ) {
    const outcome = await call('showConsent', { params: { consent: id } });
    if (outcome.phase === 'failed') throw new Error(`The consent failed: ${outcome.problem?.title ?? 'unknown'}. ${outcome.problem?.evidence ?? ''}`);
    if (outcome.phase === 'done') return;
    await clock.quiet();
    clock.moveTo(clock.now() + 200);
  }
  throw new Error('The consent did not come to its end.');
}

async function addCaller({ call }: Stage, scene: Scene, plan: RehearsalPlan['callers'][number]): Promise<void> {
  const names = plan.connections.filter((name) => scene.connections.some((one) => one.name === name));
  const made = await call('addCaller', { body: { name: plan.name, connections: names } });
  for (const label of plan.labels) await call('permitCaller', { params: { caller: plan.name }, body: { label } });
  const labelled = scene.connections.filter((one) => one.plan.labels.some((label) => plan.labels.includes(label))).map((one) => one.name);
  let { key } = made;
  if (plan.keyEndsAt !== null) {
    // Its only key is one that expires when the real one does.
    const dated = await call('addKey', { params: { caller: plan.name }, body: { label: 'rehearsal', ends_at: new Date(plan.keyEndsAt).toISOString() } });
    const { keys } = await call('showCaller', { params: { caller: plan.name } });
    for (const one of keys) if (one.label !== 'rehearsal') await call('retireKey', { params: { caller: plan.name, key: one.id } });
    key = dated.key;
  }
  scene.callers.push({ name: plan.name, id: made.caller_id, key, uses: [...new Set([...names, ...labelled])] });
}
