import type { StateCount } from '../store/connection-list.ts';
import type { NoticeRow } from '../store/notices.ts';
import type { NoticeParts } from './parts.ts';

/** True where an account that is limited to labels may see all that a notice is about. */
export async function isWhollyWithin(s: Pick<NoticeParts, 'store'>, { subject }: Pick<NoticeRow, 'subject'>, labels: readonly string[]): Promise<boolean> {
  const { limits } = s.store;
  const at = subject.indexOf(':');
  const [kind, name] = [subject.slice(0, at), subject.slice(at + 1)];
  switch (kind) {
    case 'connection':
      return (await limits.connectionsWithin([name], labels)).has(name);
    case 'caller':
      return (await limits.callersWithin([name], labels)).has(name);
    case 'job':
      return (await limits.jobsWithin([name], labels)).has(name);
    case 'provider':
      return limits.areAllWithin({ provider: name }, labels);
    case 'client': {
      const [provider = '', client = ''] = name.split('/');
      return limits.areAllWithin({ provider, client }, labels);
    }
    default:
      return false;
  }
}

/** A notice that is about more than the account may see: without names, texts and counts of the rest. @param states those of connections within */
export function narrowed(row: NoticeRow, labels: readonly string[], states: readonly StateCount[]): NoticeRow {
  const isOf = (one: StateCount) => row.subject === `provider:${one.provider}` || row.subject === `client:${one.provider}/${one.client}`;
  const isUnwell = (one: StateCount) => row.kind !== 'connections' || one.state === 'degraded' || one.state === 'action_needed';
  return {
    ...row,
    title: row.subject === 'installation' ? 'Something expires soon' : row.title,
    evidence: '',
    labels: row.labels.filter((label) => labels.includes(label)),
    connections: states.filter((one) => isOf(one) && isUnwell(one)).reduce((sum, one) => sum + one.count, 0),
  };
}
