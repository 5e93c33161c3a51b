import type { ConsentOutcome } from '../../api/connections.ts';

/** How the page of a consent words what came of it. */
export function outcomeWords(o: Pick<ConsentOutcome, 'by_itself' | 'account' | 'refresh_token' | 'access_token_life_seconds'>): {
  account: string;
  refreshToken: string;
  accessToken: string;
} {
  const { by_itself: own, account, refresh_token: hasRefresh, access_token_life_seconds: seconds } = o;
  const received = hasRefresh ? 'Received: the connection renews automatically' : 'Not received: the connection ends with its access token';
  const named = account ? `${account.label} (${account.id})` : 'Not reported by the provider';
  return {
    account: own ? 'None: the client acts for itself' : named,
    refreshToken: own ? 'Not needed: the client requests a new token in time' : received,
    accessToken: seconds === null ? 'No lifetime stated' : `Valid for ${seconds} s at a time`,
  };
}
