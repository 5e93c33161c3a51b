import { isClientsOwn, isKey } from '../oauth/grant-kinds.ts';
import type { Dialect } from '../provider/dialect.ts';
import { mayVerifyRenewal } from '../renewal/plan.ts';

/** What is known of one grant, for the question whether it will live. Instants are epoch ms. */
export interface GrantFacts {
  kind: string;
  hasRefreshToken: boolean;
  /** Renewals that were saved. */
  renewals: number;
  /** A renewal is planned; false: the provider rejects it, or there is nothing to renew with. */
  planned: boolean;
  /** The provider rejected the refresh token once, and is asked again. */
  refusedOnce?: boolean;
  /** So many newer grants of the same account are held here that the provider, which keeps only so many, has ended this one. */
  pushedOut?: boolean;
  consentedAt: number;
  account: string | null;
  opened: string | null;
  /** Of the client: what its people may sign in, and until when its secret in use is good. */
  reachLifeSeconds: number | null;
  reachSays: string | null;
  absoluteEndsAt: number | null;
  secretEndsAt: number | null;
  secretIs: 'secret' | 'password' | 'certificate' | 'key' | null;
  /** What was seen at this client, whatever the definition states: a renewal brought another refresh token, or did not. */
  sawReplaced: boolean;
  sawKept: boolean;
  now: number;
}

interface LifeLine {
  what: string;
  verdict: 'good' | 'doubt' | 'bad';
  says: string;
  remedy: string | null;
}
export interface Life {
  verdict: 'lives' | 'ends' | 'not_known' | 'not_consented';
  says: string;
  lines: LifeLine[];
  ends: { what: string; at: number }[];
  mayVerifyRenewal: boolean;
}

export const NOT_AGREED: Life = { verdict: 'not_consented', says: 'Nobody has consented yet.', lines: [], ends: [], mayVerifyRenewal: false };

const DAY_MS = 86_400_000;
const days = (ms: number): string =>
  ms >= 2 * DAY_MS ? `${Math.floor(ms / DAY_MS)} days` : ms >= DAY_MS ? 'a day' : `${Math.max(1, Math.round(ms / 3_600_000))} h`;

/** Refresh token yes or no, one renewal verified, what ends it first and when, which account it depends on, and what was seen against what is believed. */
export function forecastLife(facts: GrantFacts, dialect: Dialect): Life {
  const lines: LifeLine[] = [];
  const add = (what: string, verdict: LifeLine['verdict'], says: string, remedy: string | null = null) => lines.push({ what, verdict, says, remedy });
  const own = isClientsOwn(facts.kind);
  const key = isKey(facts.kind);
  const personal = !own && !key;

  if (key)
    add(
      'renewal',
      'doubt',
      'Static API key: it is not renewed, and its expiration date is unknown.',
      'Move to OAuth if the provider offers it: prepare it on standby, then switch.',
    );
  else if (own) add('renewal', 'good', 'No refresh token is needed: the client requests a new token in time.');
  else if (!facts.hasRefreshToken)
    add(
      'renewal',
      'bad',
      'No refresh token: the connection ends when its access token expires.',
      'Request offline access (often a scope of its own), then reconnect.',
    );
  else if (!facts.planned) add('renewal', 'bad', 'The provider rejects the refresh token.', 'Reconnect.');
  else if (facts.pushedOut)
    add(
      'renewal',
      'bad',
      `The provider keeps ${dialect.refresh_tokens_most} refresh tokens per user and client. As many newer ones are stored here, so this one has expired.`,
      'Reconnect if you still need it. The oldest of the others then expires.',
    );
  else if (facts.refusedOnce) add('renewal', 'doubt', 'The provider rejected the refresh token once. Retrying before anyone has to act.');
  else if (facts.renewals > 0)
    add('renewal', 'good', `It came with a refresh token, and ${facts.renewals === 1 ? 'one renewal was' : `${facts.renewals} renewals were`} seen to work.`);
  else
    add(
      'renewal',
      'doubt',
      'Refresh token received. Not renewed yet.',
      mayVerifyRenewal(dialect)
        ? 'Renew now to verify it. A lost answer would cost nothing here.'
        : 'Renews automatically. Renew now to verify it; if that answer is lost, someone must reconnect.',
    );

  if (personal && facts.hasRefreshToken) lines.push(rotationLine(facts, dialect));
  // What has ended, or may have, is promised no day.
  const isOver = lines[0]?.verdict === 'bad' || facts.refusedOnce === true;
  const ends = isOver ? [] : endsOf(facts, dialect, personal);
  const [first] = ends;
  if (first) {
    const restMs = first.at - facts.now;
    add('first end', restMs < 7 * DAY_MS ? 'bad' : 'doubt', `${first.what} expires first, in ${days(restMs)}.`, ENDS_REMEDY[first.what] ?? null);
  } else if (!key && !isOver) add('first end', 'good', 'No known expiration date.');
  if (dialect.idle_life_seconds !== undefined && personal)
    add(
      'unused',
      'good',
      `A refresh token that is not used for ${days(dialect.idle_life_seconds * 1000)} lapses: it is kept active by being renewed at half of that.`,
    );
  if (facts.reachSays !== null && facts.reachLifeSeconds !== null)
    add('reach', 'doubt', facts.reachSays, 'Publish the client at the provider, then reconnect.');
  if (personal)
    add(
      'account',
      facts.account === null ? 'doubt' : 'good',
      facts.account === null
        ? 'Account not known.'
        : `Depends on the account ${facts.account}${facts.opened ? `, for ${facts.opened}` : ''}: when that account goes, or withdraws it, it ends.`,
    );
  else if (own) add('account', 'good', 'Not tied to a user account: the client authenticates as itself.');

  const [one] = lines;
  const verdict: Life['verdict'] = one?.verdict === 'bad' ? 'ends' : one?.verdict === 'doubt' ? 'not_known' : first ? 'ends' : 'lives';
  return {
    verdict,
    says: inOne(verdict, first, facts.now, one),
    lines,
    ends,
    mayVerifyRenewal: personal && facts.hasRefreshToken && facts.planned && mayVerifyRenewal(dialect),
  };
}

const ENDS_REMEDY: Record<string, string> = {
  'The client secret': 'Make a new one at the provider and enter it. The old one stays in use until the new one is verified.',
  'The certificate': 'Make a new one and upload it. The old one stays in use until the new one is verified.',
  'The lifetime of the grant': 'Reconnect before that date.',
  'The refresh token of a client for listed accounts': 'Publish the client at the provider, then reconnect; or reconnect before that date.',
};

function endsOf(facts: GrantFacts, dialect: Dialect, personal: boolean): Life['ends'] {
  const all: { what: string; at: number | null }[] = [
    {
      what: facts.secretIs === 'certificate' || facts.secretIs === 'key' ? 'The certificate' : 'The client secret',
      at: facts.kind === 'static_key' ? null : facts.secretEndsAt,
    },
    {
      what: 'The lifetime of the grant',
      at: facts.absoluteEndsAt ?? (personal && dialect.absolute_life_seconds ? facts.consentedAt + dialect.absolute_life_seconds * 1000 : null),
    },
    {
      what: 'The refresh token of a client for listed accounts',
      at: personal && facts.reachLifeSeconds !== null ? facts.consentedAt + facts.reachLifeSeconds * 1000 : null,
    },
  ];
  return all.filter((one): one is { what: string; at: number } => one.at !== null).sort((a, b) => a.at - b.at);
}

/** What was seen of the provider's rotation against what its definition believes. */
function rotationLine({ sawReplaced, sawKept }: GrantFacts, dialect: Dialect): LifeLine {
  const line = (verdict: LifeLine['verdict'], says: string, remedy: string | null = null): LifeLine => ({ what: 'rotation', verdict, says, remedy });
  const fix = 'Fix \u201crotation\u201d in the dialect of the definition.';
  const believed = { each_use: 'each renewal brings a new refresh token', never: 'the refresh token stays the same', unknown: 'nothing' }[dialect.rotation];
  if (!sawReplaced && !sawKept) return line('doubt', `The definition states: ${believed}. Not observed yet.`);
  const seen =
    sawReplaced && sawKept ? 'at times a new refresh token came, at times not' : sawReplaced ? 'a new refresh token came' : 'no new refresh token came';
  if (dialect.rotation === 'never' && sawReplaced)
    return line('bad', `Observed: ${seen}. The definition states: ${believed}. A lost answer may end the grant.`, fix);
  if (dialect.rotation === 'each_use' && sawKept && !sawReplaced) return line('doubt', `Observed: ${seen}. The definition states: ${believed}.`, fix);
  if (dialect.rotation === 'unknown')
    return line('doubt', `Observed: ${seen}. The definition does not state it, so each renewal is handled as if it did.`, fix);
  return line('good', `Observed: ${seen}, as the definition states.`);
}

function inOne(verdict: Life['verdict'], first: { what: string; at: number } | undefined, now: number, renewal: LifeLine | undefined): string {
  if (verdict === 'lives') return 'Renews automatically. No known expiration.';
  if (renewal && renewal.verdict !== 'good') return renewal.says;
  return first ? `Works until ${first.what.replace(/^The/, 'the')} expires, in ${days(first.at - now)}.` : 'Renews automatically.';
}
