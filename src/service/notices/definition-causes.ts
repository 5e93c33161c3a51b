import type { Cause } from '../../core/notices/notice.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { testPhases } from '../forecast/index.ts';
import { connectionDefinition } from '../grants/index.ts';
import type { NoticeParts } from './parts.ts';
import { PLAIN } from './plain-cause.ts';

/** Seen at least this long apart, so that one bad moment is no news. */
const SEEN_AGAIN_MS = 3_600_000;

/** What renewals and calls show, where the definition states the opposite. */
export async function definitionCauses(s: NoticeParts): Promise<Cause[]> {
  const seen = await s.store.noticeFacts.sightings();
  const causes: Cause[] = [];
  const told = new Set<string>();
  for (const one of seen) {
    const kind = one.what === 'access_token_short_lived' ? 'lifetime' : 'rotation';
    if (told.has(`${one.provider} ${kind}`)) continue;
    const { definition } = await connectionDefinition(s, { provider: one.provider, client: one.client, placeholders: {}, apiBaseUrl: null });
    const cause = kind === 'lifetime' ? lifetimeCause(definition, one) : rotationCause(definition, one);
    if (!cause) continue;
    told.add(`${one.provider} ${kind}`);
    causes.push(cause);
  }
  return causes;
}

type Seen = Awaited<ReturnType<NoticeParts['store']['noticeFacts']['sightings']>>[number];
const ofDefinition = (provider: string, about: 'rotation' | 'lifetime'): Cause => ({
  ...PLAIN,
  ...{ key: `definition:${provider}:${about}`, kind: 'definition', severity: 'warning', subject: `provider:${provider}`, title: '', remedy: '' },
  page: `/providers/${provider}`,
  command: `rk provider show ${provider} --document`,
});

function rotationCause({ title, dialect: { rotation } }: ProviderDefinition, { provider, client, what }: Seen): Cause | null {
  const isOther = (rotation === 'never' && what === 'refresh_token_replaced') || (rotation === 'each_use' && what === 'refresh_token_kept');
  if (!isOther) return null;
  return {
    ...ofDefinition(provider, 'rotation'),
    // A token that is spent by its use, and is not known to be, is lost with the first lost answer.
    severity: rotation === 'never' ? 'action' : 'warning',
    title:
      rotation === 'never'
        ? `${title} replaces refresh tokens, though its definition states that it does not`
        : `${title} keeps refresh tokens, though its definition states that each use replaces them`,
    evidence: `Seen at the client ${provider}/${client} within the last 7 days. The definition states rotation: ${rotation}.`,
    remedy: `Change the definition: dialect.rotation: ${rotation === 'never' ? 'each_use' : 'unknown'}.`,
  };
}

function lifetimeCause({ title, dialect }: ProviderDefinition, { provider, client, firstAt, lastAt }: Seen): Cause | null {
  if (lastAt - firstAt < SEEN_AGAIN_MS) return null;
  const half = Math.max(10, Math.round(dialect.assumed_life_seconds / 2));
  return {
    ...ofDefinition(provider, 'lifetime'),
    title: `Access tokens of ${title} end earlier than stated`,
    evidence: `At the client ${provider}/${client} the API rejected tokens that should have been good, and took renewed ones, again within the last 7 days.`,
    remedy: `If its token answers name no lifetime, change the definition: dialect.assumed_life_seconds: ${half}. Else report it to the provider; calls are renewed and repeated meanwhile.`,
  };
}

/** A refresh token that works after its test phase shows that the client is open to everyone by now. */
export async function publishedCauses(s: NoticeParts): Promise<Cause[]> {
  return (await s.store.noticeFacts.outlivedPhase(await testPhases(s))).map(({ clientId, provider, client, connection }) => ({
    ...PLAIN,
    key: `published:${clientId}`,
    kind: 'approval',
    severity: 'info',
    subject: `client:${provider}/${client}`,
    title: `${provider}/${client} seems to be published`,
    evidence: `The refresh token of ${connection} was renewed after the test phase of listed accounts had expired.`,
    remedy: 'Look at the client\u2019s page at the provider. If anyone can sign in, enter that here: its expirations are then no longer forecast.',
    page: `/providers/${provider}/clients/${client}`,
    command: `rk client change ${provider}/${client} --reach anyone`,
  }));
}
