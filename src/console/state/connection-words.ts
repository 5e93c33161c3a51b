import type { Connection } from '../../api/connections.ts';

/** What a connection's page decides from the connection: words, ways, and what is possible now. */
export interface ConnectionWords {
  consented: boolean;
  paused: boolean;
  revoked: boolean;
  /** Nobody signs in: the client requests tokens for itself. */
  own: boolean;
  isKey: boolean;
  /** The way that a browser can go; undefined: the usual one. */
  way: 'pasted' | undefined;
  /** The button that starts a consent. */
  consent: string;
  /** What its consent is called, with its instant beside it. */
  consentedAs: string;
  account: string;
  refreshToken: { says: string; isWarning: boolean };
}

function consentLabel(c: Connection, consented: boolean): string {
  if (c.ways[0] === 'by_itself') return consented ? 'Request again' : 'Request the token';
  return consented ? 'Reconnect' : 'Go to consent';
}

function refreshTokenWords(c: Connection, own: boolean, isKey: boolean): ConnectionWords['refreshToken'] {
  if (isKey) return { says: 'None: a static API key', isWarning: false };
  if (own) return { says: 'Not needed: the client requests a new token in time', isWarning: false };
  if (!c.has_refresh_token) return { says: 'None: ends with its access token', isWarning: true };
  return c.next_renewal_at ? { says: 'Yes: renews automatically', isWarning: false } : { says: 'Rejected by the provider', isWarning: true };
}

function consentedAs(c: Connection, own: boolean, isKey: boolean): string {
  if (isKey) return 'Key set';
  if (own) return 'Requested';
  return c.grant_kind === 'imported' ? 'Imported' : 'Consented';
}

function accountWords(c: Connection, consented: boolean, own: boolean, isKey: boolean): string {
  if (isKey) return 'Static API key: nothing renews it';
  if (own) return c.grant_type === 'jwt_bearer' ? `Service account, in the name of ${c.expected_account}` : 'None: the client authenticates as itself';
  return c.account ?? (consented ? 'Not read' : 'None yet');
}

export function connectionWords(c: Connection): ConnectionWords {
  const consented = c.consented_at !== null;
  const isKey = c.grant_kind === 'static_key';
  const own = c.grant_type !== 'authorization_code' && !isKey;
  return {
    consented,
    paused: c.state === 'paused',
    revoked: c.state === 'revoked',
    own,
    isKey,
    way: !c.ways.includes('redirect') && c.ways.includes('pasted') ? 'pasted' : undefined,
    consent: consentLabel(c, consented),
    consentedAs: consentedAs(c, own, isKey),
    account: accountWords(c, consented, own, isKey),
    refreshToken: refreshTokenWords(c, own, isKey),
  };
}
