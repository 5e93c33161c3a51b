import type { HealthCause } from '../health.ts';

/** The key of the notice about connections of one client that are not well for one reason. */
export const ofClientKey = (one: { provider: string; client: string; state: string; causeKey: HealthCause }): string =>
  `connections:${one.provider}/${one.client}:${one.state}:${one.causeKey}`;
/** Of a provider that does not answer: retried, uncertain and late connections of all its clients are one cause. */
export const ofProviderKey = (provider: string): string => `connections:${provider}:unanswered`;
