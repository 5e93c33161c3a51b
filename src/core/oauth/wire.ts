import { own } from '../json.ts';
import type { Secret } from '../secret.ts';

/** What goes over the wire and what comes back, free of any HTTP library. Sending is a port. */
export interface WireRequest {
  method: string;
  url: string;
  headers: Record<string, string>;
  body?: string;
  /** The whole exchange must end within this many milliseconds. */
  deadlineMs: number;
  /** The most bytes of body that are read. */
  limitBytes: number;
  /** Request a socket of its own: a request that a proxy or pool repeats could spend a refresh token twice. */
  freshSocket?: boolean;
  /** What of this request nobody may read: masked wherever the answer repeats it. */
  hides?: readonly Secret[];
}

export interface WireAnswer {
  kind: 'answer';
  status: number;
  /** Names in lower case. */
  headers: Record<string, string>;
  body: string;
  /** True when the body was longer than the limit and was cut. */
  cut: boolean;
  tookMs: number;
  /** Of the request: masked wherever a text of this answer is kept. */
  hides?: readonly Secret[];
}

/** `unsent`: nothing of the request can have reached the provider. `unclear`: the bytes went, the answer did not come. */
export interface WireFailure {
  kind: 'unsent' | 'unclear';
  /** A short word of ours: dns, rejected, tls, timeout, reset, too_large, address_forbidden, other. */
  reason: string;
  tookMs: number;
}

export type WireOutcome = WireAnswer | WireFailure;
export type Send = (request: WireRequest) => Promise<WireOutcome>;

const REASONS: Record<string, string> = {
  not_an_address: 'it is no address',
  dns: 'the name of its host does not resolve',
  refused: 'its host rejects the connection',
  connect_timeout: 'its host does not take the connection in time',
  tls: 'its TLS certificate is not good',
  address_forbidden: 'its address is a private one, which is called only where RUSTY_KETTLE_PRIVATE_HOSTS names the host',
  timeout: 'the answer did not come in time',
  reset: 'the connection broke before the answer came',
  practice: 'this is a practice restore, which calls nobody',
  token_type_dpop: 'the token is bound to a DPoP key',
};

/** A failure's reason as a clause for people. */
export const reasonInWords = (reason: string): string => own(REASONS, reason) ?? reason.replaceAll('_', ' ');
