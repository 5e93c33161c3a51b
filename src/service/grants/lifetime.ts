import type { z } from 'zod';
import type { Lifetime } from '../../api/connections.ts';
import { forecastLife, type Life, NOT_AGREED } from '../../core/lifetime/forecast.ts';
import { iso } from '../iso.ts';
import type { GrantRow } from '../store/grants.ts';
import { connectionDefinition } from './definition.ts';
import type { GrantParts } from './parts.ts';

const shown = (life: Life): z.output<typeof Lifetime> => ({
  verdict: life.verdict,
  says: life.says,
  lines: life.lines,
  ends: life.ends.map(({ what, at }) => ({ what, at: iso(at) })),
  may_verify_renewal: life.mayVerifyRenewal,
});

/** Will this grant live? From what is written down of it, its client and what was seen there. */
export async function lifetimeOf(s: GrantParts, grantId: string | null): Promise<z.output<typeof Lifetime>> {
  const grant = grantId === null ? null : await s.store.grants.byId(grantId);
  const held = grant === null ? null : await s.store.renewals.read(grant.id);
  const connection = grant === null ? null : await s.store.connections.byId(grant.connectionId);
  if (!grant || !held || !connection || held.row.ended) return shown(NOT_AGREED);
  const client = await s.store.clients.byId(grant.clientId ?? connection.clientId);
  const provider = client && (await s.store.providers.byId(client.providerId));
  if (!client || !provider) return shown(NOT_AGREED);
  const placeholders = grant.placeholders ?? connection.placeholders;
  const { definition } = await connectionDefinition(s, { provider: provider.name, client: client.name, placeholders, apiBaseUrl: null });
  const secrets = (await s.store.secrets.ofClient(client.id)).filter((one) => one.state === 'active' || one.state === 'unverified');
  const inUse = secrets.find((one) => one.state === 'active') ?? secrets[0];
  // Another secret that is there already imports: the last of them ends it.
  const lasts = secrets.some((one) => one.endsAt === null) ? null : Math.max(...secrets.map((one) => one.endsAt ?? 0));
  const reach = definition.reach.find((one) => one.reach === client.reach);
  const seen = await s.sightings.of(client.id);
  return shown(
    forecastLife(
      {
        kind: grant.kind,
        hasRefreshToken: held.refreshSealed !== null,
        renewals: Math.max(0, held.row.generation - 1),
        planned: held.row.nextAt !== null,
        refusedOnce: held.row.refusedAt !== null,
        pushedOut: await isPushedOut(s, grant, client.id, definition.dialect.refresh_tokens_most),
        consentedAt: grant.consentedAt,
        account: grant.accountLabel,
        opened: grant.opened,
        reachLifeSeconds: reach?.refresh_token_life_seconds ?? null,
        reachSays: reach?.says ?? null,
        absoluteEndsAt: grant.lifeEndsAt,
        secretEndsAt: secrets.length === 0 ? null : lasts,
        secretIs: inUse?.kind ?? null,
        sawReplaced: seen.has('refresh_token_replaced'),
        sawKept: seen.has('refresh_token_kept'),
        now: s.ports.clock.now(),
      },
      definition.dialect,
    ),
  );
}

/** True where so many newer grants of the same account are active here that the provider has expired this one (`refresh_tokens_most`). */
const isPushedOut = async (s: Pick<GrantParts, 'store'>, grant: GrantRow, clientId: string, most: number | undefined): Promise<boolean> =>
  most !== undefined && grant.accountId !== null && (await s.store.grants.newerThan(clientId, { ...grant, accountId: grant.accountId })) >= most;
