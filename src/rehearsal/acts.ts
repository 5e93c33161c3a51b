import type { UpcomingItem } from '../api/upcoming.ts';
import { readDefinition } from '../core/provider/read-definition.ts';
import type { Scenario } from '../core/rehearsals/scenarios.ts';
import { addSecret } from '../standins/console/record.ts';
import { playInvitation } from '../standins/visitor.ts';
import { consent, madeCertificate, type Scene, type SceneClient } from './scene.ts';
import type { Stage } from './stage.ts';
import { Standin } from './standin.ts';

/** Kinds of dates after which something stops working. */
export const STOPPING: readonly UpcomingItem['kind'][] = ['client_secret', 'certificate', 'grant', 'test_phase', 'caller_key'];

/** The connections, or the caller, that stop with an entry of Upcoming. */
export function hitBy(scene: Scene, item: Pick<UpcomingItem, 'kind' | 'page'>): { connections: string[]; caller: string | null } {
  const [, kind, name = '', , client] = item.page.split('/');
  if (item.kind === 'caller_key') return { connections: [], caller: name };
  const isHit = (one: Scene['connections'][number]) => (kind === 'providers' ? one.plan.provider === name && one.plan.client === client : one.name === name);
  return { connections: [...new Set(scene.connections.filter(isHit).map((one) => one.name))], caller: null };
}

/** Does what an entry of Upcoming asks for. False: nothing can be done about it here. */
export async function actOn(stage: Stage, scene: Scene, item: Pick<UpcomingItem, 'kind' | 'page'>): Promise<boolean> {
  const [, , name = '', , clientName] = item.page.split('/');
  if (item.kind === 'caller_key') {
    const caller = scene.callers.find((one) => one.name === name);
    if (!caller) return false;
    caller.key = (await stage.call('addKey', { params: { caller: name }, body: { label: `rehearsal ${stage.clock.now()}` } })).key;
    return true;
  }
  if (item.kind === 'client_secret' || item.kind === 'certificate') {
    const client = scene.clients.find(({ plan }) => plan.provider === name && plan.name === clientName);
    if (!client) return false;
    await newSecret(stage, client);
    return true;
  }
  if (item.kind !== 'grant' && item.kind !== 'test_phase') return false;
  await reconnect(stage, scene, name);
  return true;
}

/** Everyone of a connection consents again. */
async function reconnect(stage: Stage, scene: Scene, name: string, untick?: string[]): Promise<void> {
  for (const [at, one] of scene.connections.filter((each) => each.name === name).entries()) {
    const options = { account: ['eg-1042', 'eg-1077'][at] ?? 'eg-1042', ...(untick ? { untick } : {}) };
    if (one.person === null) await consent(stage, scene, one.plan, options);
    else {
      const { url } = await stage.call('invitePerson', { params: { connection: name }, body: { person: one.person, purpose: 'Rehearsal' } });
      await playInvitation(url, options);
    }
  }
}

/** A new secret or certificate beside the old one, which lasts. */
async function newSecret(stage: Stage, { plan, registered }: SceneClient): Promise<void> {
  const params = { provider: plan.provider, client: plan.name };
  const standin = stage.standins.get(plan.provider);
  if (!standin) return;
  const byKey = plan.secrets.some((one) => one.kind === 'certificate' || one.kind === 'key');
  if (byKey) {
    registered.certificates.push(await madeCertificate(stage, params, null));
    return;
  }
  const { value } = addSecret(readDefinition(standin.definitionText), registered, { now: stage.clock.now() });
  await stage.call('addSecret', { params, body: { secret: value, take_as_is: true } });
}

const MANY = 100_000;
/** Makes one provider go wrong, and right again. */
export async function goWrong(stage: Stage, scene: Scene, { scenario, hits, isOver }: { scenario: Scenario; hits: string; isOver: boolean }): Promise<string> {
  const provider = hits.split('/')[0] ?? '';
  const standin = new Standin(stage.standins.get(provider));
  const fault = (at: string, kind: string, more: object = {}) => standin.order('faults', { at, kind, times: MANY, ...more });
  switch (scenario) {
    case 'provider_down':
      if (isOver) await standin.order('faults');
      else for (const at of ['token', 'userinfo', 'api']) await fault(at, 'status', { status: 503 });
      return isOver ? `${provider} answers again.` : `${provider} answers every request with 503.`;
    case 'lost_answers':
      if (isOver) await standin.order('faults');
      else await fault('token', 'cut_after');
      return isOver ? `Answers of ${provider} arrive again.` : `${provider} does what it is asked for, and its answers are lost.`;
    case 'quota_used_up':
      if (isOver) await standin.order('faults');
      else await fault('api', 'status', { status: 429, retry_after_seconds: 3_600 });
      return isOver ? `${provider} takes calls again.` : `${provider} answers API calls with 429 and "Retry-After: 3600".`;
    case 'approval_withdrawn': {
      for (const { registered } of scene.clients.filter((one) => one.plan.provider === provider))
        await standin.order('approval', { client_id: registered.id, state: isOver ? 'approved' : 'rejected' });
      return isOver ? `${provider} approves its clients again.` : `${provider} withdraws the approval of its clients.`;
    }
    case 'scopes_unticked': {
      if (isOver) {
        for (const name of namesAt(scene, provider)) await reconnect(stage, scene, name);
        return 'They reconnect and leave all scopes ticked.';
      }
      const done: string[] = [];
      for (const name of namesAt(scene, provider)) {
        const scope = scopeToUntick(stage, scene, name);
        if (scope === undefined) continue;
        await reconnect(stage, scene, name, [scope]).catch(() => undefined); // what it leads to is what is watched
        const { standby, shared } = await stage.call('showConnection', { params: { connection: name } });
        done.push(`${name}: ${scope}${standby && !shared ? `; the new tokens wait: ${standby.says}` : ''}`);
      }
      return `People reconnect and untick a scope (${done.join(', ') || 'none can be unticked'}).`;
    }
    case 'secret_expires': {
      const client = scene.clients.find(({ plan }) => `${plan.provider}/${plan.name}` === hits);
      if (!client) return 'No client has a secret.';
      if (isOver) await newSecret(stage, client);
      return isOver ? `Someone enters a new secret of ${hits}.` : `The secret of ${hits} expires.`;
    }
    default:
      return '';
  }
}

/** One that calls need; else the last one requested. */
function scopeToUntick(stage: Stage, scene: Scene, name: string): string | undefined {
  const plan = scene.connections.find((one) => one.name === name)?.plan;
  const standin = plan && stage.standins.get(plan.provider);
  if (!plan || !standin) return undefined;
  const needed = readDefinition(standin.definitionText).apis.flatMap((api) => api.probes.flatMap((probe) => probe.needs));
  return plan.scopes.find((scope) => needed.includes(scope)) ?? plan.scopes.at(-1);
}

const namesAt = (scene: Scene, provider: string): string[] => [
  ...new Set(scene.connections.filter((one) => one.plan.provider === provider && one.plan.grantKind === 'authorization_code').map((one) => one.name)),
];
