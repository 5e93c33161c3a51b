import type { Secret } from '../../core/secret.ts';
import { hashOf, isHashOf } from '../hash.ts';
import { type MetricParts, metrics } from '../metrics/index.ts';

/** Figures for a monitoring system, for whoever has the token. */
export interface ServedMetrics {
  isAllowed(authorization: string | undefined): boolean;
  text(): Promise<string>;
  contentType: string;
}

/** Null: no token is set, and there are none. */
export function servedMetrics(s: MetricParts, token: Secret | null): ServedMetrics | null {
  if (token === null) return null;
  const wanted = hashOf(`Bearer ${token.reveal()}`);
  return { ...metrics(s), isAllowed: (authorization) => isHashOf(wanted, authorization) };
}
