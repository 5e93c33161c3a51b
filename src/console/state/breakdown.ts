import type { Breakdown } from '../../api/statistics.ts';

export type BarTone = 'good' | 'warn' | 'bad' | 'quiet';
type Result = Breakdown['jobs'][number]['runs'][number]['result'];

export const RESULT_WORDS: Record<Result, { label: string; tone: BarTone }> = {
  complete: { label: 'complete', tone: 'good' },
  cannot_tell: { label: 'done, completeness not known', tone: 'good' },
  incomplete: { label: 'not complete', tone: 'bad' },
  failed: { label: 'failed', tone: 'bad' },
  skipped: { label: 'skipped', tone: 'warn' },
  waiting: { label: 'waiting', tone: 'warn' },
  running: { label: 'running', tone: 'quiet' },
  cancelled: { label: 'canceled', tone: 'quiet' },
};

/** Where a quota is about to run out. */
export const quotaTone = (percent: number): BarTone => (percent >= 95 ? 'bad' : percent >= 75 ? 'warn' : 'good');

export function hrefOfQuota({ of, name }: Pick<Breakdown['quotas'][number], 'of' | 'name'>): string {
  const [provider, client] = name.split('/');
  return of === 'client' ? `#/providers/${provider}/clients/${client}` : `#/connections/${name}/used-by`;
}

/** Parts of each bar in percent of the longest one. */
export function callerBars(callers: Breakdown['callers']): { caller: string; tokens: number; relayed: number; rejected: number; says: string }[] {
  const most = Math.max(1, ...callers.map((one) => one.tokens + one.relayed + one.rejected));
  const percent = (count: number): number => (100 * count) / most;
  return callers.map(({ caller, tokens, relayed, rejected }) => ({
    caller,
    ...{ tokens: percent(tokens), relayed: percent(relayed), rejected: percent(rejected) },
    says: [tokens + relayed, ...(rejected > 0 ? [`${rejected} rejected`] : [])].join(', '),
  }));
}
