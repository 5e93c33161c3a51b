import type { Connection } from '../../api/connections.ts';
import { counted, POLICY_LABELS } from '../../api/vocabulary.ts';
import { relative } from '../print.ts';
import { one, type Shown, state } from '../show.ts';
import { diagnosisLines } from './diagnosis.ts';

const words = (name: string): string => name.replaceAll('_', ' ');
const pairsOf = (values: Record<string, string>): string =>
  Object.entries(values)
    .map(([name, value]) => `${name} ${value}`)
    .join(', ');

const STARTED: Record<string, string> = { static_key: 'Key set', imported: 'Imported' };

/** A connection, and what to do next. */
export function shownConnection(c: Connection, next?: string): Shown {
  const works = c.state === 'working';
  return one(c, [
    ['Connection', c.name],
    ['State', state(c.state)],
    ['Why', c.cause],
    ['Evidence', works ? null : c.evidence],
    ['Verdict', works ? null : diagnosisLines(c.diagnosis)],
    ['What to do', c.remedy],
    ['Client', `${c.provider}/${c.client} (${c.environment}${c.rehearsal ? ', rehearsal' : ''})`],
    ['Grant type', c.grant_type === 'authorization_code' ? null : words(c.grant_type)],
    ['API', c.base_url],
    ['Placeholders', pairsOf(c.placeholders)],
    ['Operations', c.operations.join(', ')],
    ['Not allowed', c.operations_lacking.join(', ')],
    ['Weaker client', c.weaker_client ? `${c.provider}/${c.weaker_client} is enough for these operations` : null],
    ['Account', c.account],
    ['Opened', c.opened],
    ['Standby', c.standby ? `${c.standby.says} (${words(c.standby.kind)}${c.standby.account ? `, ${c.standby.account}` : ''})` : null],
    ['Expiration', c.lifetime.verdict === 'not_consented' ? null : c.lifetime.says],
    ['Unused scopes', c.scopes_unused.length > 0 ? `${c.scopes_unused.join(' ')}: granted, but no selected operation needs them` : null],
    ['Revocation', c.revocation?.says],
    [STARTED[c.grant_kind ?? ''] ?? 'Consented', c.consented_at ? `${relative(c.consented_at)}, started by ${c.consented_by}` : null],
    ['Scopes', c.scopes_granted?.join(' ') ?? c.scopes_requested.join(' ')],
    ['Not granted', c.scopes_missing.join(' ')],
    ['Token', c.life ? `expires ${relative(c.life.expires_at)}, renewal ${relative(c.next_renewal_at)}` : null],
    ['Renewed', c.life ? (c.renewals === 1 ? 'once' : `${c.renewals} times`) : null],
    ['Policy', c.policy === 'always' ? null : `renewed ${POLICY_LABELS[c.policy]}`],
    ['Reconnect by', c.reconnect_by ? `${relative(c.reconnect_by)}: the grant expires then by the provider\u2019s rules` : null],
    ['Probe', c.probe.state === 'not_defined' ? null : `GET ${c.probe.path}: ${words(c.probe.state)}`],
    ['Ready', c.state === 'draft' || c.state === 'not_yet_consented' ? c.ready.says : null],
    ['Labels', c.labels.join(', ')],
    ['Callers', c.callers_last_used.map(userLine).join('\n')],
    ['Resource', c.resource],
    ['Relay', c.relay_url],
    [next?.startsWith('rk ') ? 'Next' : 'Note', next],
  ]);
}

const userLine = (user: Connection['callers_last_used'][number]): string =>
  `${user.caller}: ${user.says}; last hour ${counted(user.tokens_last_hour, 'token')}, ${user.relayed_last_hour} relayed; last ${relative(user.at)}`;
