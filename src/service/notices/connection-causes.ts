import { groupInWords, HEALTH_CAUSES, type HealthCause, remedyFor } from '../../core/health.ts';
import { ofClientKey, ofProviderKey } from '../../core/notices/connections-key.ts';
import type { Cause } from '../../core/notices/notice.ts';
import type { StateCount } from '../store/connection-list.ts';
import type { NoticeParts } from './parts.ts';
import { PLAIN } from './plain-cause.ts';

/** A state that is seen while something is being changed is no notice. */
const ACTION_SETTLE_MS = 10_000;

/** Connections that are degraded or need action, by cause: of one provider where the cause lies there, else of one client. */
export async function connectionCauses(s: NoticeParts): Promise<Cause[]> {
  await s.connectionStates.settle();
  const groups = groupsOf(await s.store.connectionList.countStates());
  if (groups.size === 0) return [];
  const titles = new Map((await s.store.providers.all()).map((one) => [one.name, one.title]));
  return Promise.all([...groups].map(([key, of]) => groupCause(s, key, of, titles)));
}

type Counted = StateCount & { causeKey: HealthCause };
const isUnwell = (one: StateCount): one is Counted => one.causeKey !== null && (one.state === 'action_needed' || one.state === 'degraded');

/** A provider that does not answer leaves some retried, some uncertain and some not renewed in time: all of that is one cause. */
function groupsOf(counted: readonly StateCount[]): Map<string, Counted[]> {
  const unwell = counted.filter(isUnwell);
  const lies = (one: Counted) => one.state === 'degraded' && HEALTH_CAUSES[one.causeKey] === 'provider';
  const down = new Set(unwell.filter(lies).map((one) => one.provider));
  const groups = new Map<string, Counted[]>();
  for (const one of unwell) {
    const isPart = lies(one) || (one.causeKey === 'overdue' && down.has(one.provider));
    const key = isPart ? ofProviderKey(one.provider) : ofClientKey(one);
    groups.set(key, [...(groups.get(key) ?? []), one]);
  }
  return groups;
}

async function groupCause(s: NoticeParts, key: string, of: readonly Counted[], titles: ReadonlyMap<string, string>): Promise<Cause> {
  const weight = (one: Counted) => (HEALTH_CAUSES[one.causeKey] === 'provider' ? 1e9 : 0) + one.count;
  const main = of.reduce((a, b) => (weight(b) > weight(a) ? b : a));
  const { provider, client, state, causeKey, example, evidence } = main;
  const level = HEALTH_CAUSES[causeKey];
  const count = of.reduce((sum, one) => sum + one.count, 0);
  const labels = await Promise.all(of.map((one) => s.store.noticeFacts.labelsOf(one)));
  const listed = `/connections?state=${state}&provider=${provider}`;
  return {
    ...PLAIN,
    key,
    kind: 'connections',
    severity: state === 'action_needed' ? 'action' : 'warning',
    subject: level === 'provider' ? `provider:${provider}` : `client:${provider}/${client}`,
    title: groupInWords(causeKey, titles.get(provider) ?? provider, `${provider}/${client}`),
    evidence: causeKey === 'client_refused' ? (evidence ?? '') : '',
    remedy: remedyFor(causeKey),
    page: level === 'client' ? `/providers/${provider}/clients/${client}` : count === 1 ? `/connections/${example}` : listed,
    command: count === 1 ? `rk connection show ${example}` : `rk connection list --state ${state} --provider ${provider}`,
    labels: [...new Set(labels.flat())].sort(),
    count,
    settleMs: state === 'degraded' ? s.settings.noticeSettleMs : Math.min(ACTION_SETTLE_MS, s.settings.noticeSettleMs),
  };
}
