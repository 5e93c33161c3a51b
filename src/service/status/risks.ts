import type { AnswerOf } from '../../api/operations.ts';
import type { Dialect } from '../../core/provider/definition.ts';
import { iso } from '../iso.ts';
import { canSpend } from '../renewal/index.ts';
import type { StatusParts } from './parts.ts';

const MAX_LOOKED_AT = 2_000;
const PAGE = 500;
const MAX_SHOWN = 200;

const SAYS = {
  kills_grant: 'An outdated refresh token ends the grant: reconnect.',
  refused: 'An outdated refresh token is rejected: reconnect.',
  grace: 'An outdated refresh token is accepted for a while after its renewal, then rejected: reconnect.',
} as const satisfies Record<Dialect['reuse'], string>;
const ORDER = ['kills_grant', 'refused', 'grace'] as const satisfies readonly Dialect['reuse'][];

/** Connections whose refresh token rotates: where a renewal is missing here, `own` spends an outdated token. The worst first. */
export async function listInstallationRisks(s: Pick<StatusParts, 'contexts' | 'store'>): Promise<AnswerOf<'listInstallationRisks'>> {
  const found: (AnswerOf<'listInstallationRisks'>['items'][number] & { reuse: Dialect['reuse'] })[] = [];
  let after: string | null = null;
  for (let looked = 0; looked < MAX_LOOKED_AT; looked += PAGE) {
    const rows = await s.store.renewals.present(after, PAGE);
    const contexts = await s.contexts.of(rows.filter((one) => one.refreshSealed !== null).map((one) => one.grantId));
    for (const { grantId, row } of rows) {
      const context = contexts.get(grantId);
      if (!context || !canSpend(context)) continue;
      const { reuse } = context.definition.dialect;
      found.push({ connection: context.connectionName, provider: context.definition.name, renewed_at: iso(row.issuedAt), says: SAYS[reuse], reuse });
    }
    if (rows.length < PAGE) {
      after = null;
      break;
    }
    after = rows.at(-1)?.grantId ?? null;
  }
  const sorted = found.sort((a, b) => ORDER.indexOf(a.reuse) - ORDER.indexOf(b.reuse) || a.connection.localeCompare(b.connection));
  return { items: sorted.slice(0, MAX_SHOWN).map(({ reuse: _reuse, ...one }) => one), more: after !== null || sorted.length > MAX_SHOWN };
}
