/** Events about a person's connection, for applications. */
export const PERSON_EVENTS = ['consented', 'scopes_changed', 'action_needed', 'disconnected', 'withdrawn', 'expires_soon', 'asked'] as const;
export type PersonEventKind = (typeof PERSON_EVENTS)[number];

const typeOf = (kind: PersonEventKind): string => `person.${kind}`;

/** An event by CloudEvents 1.0 (structured JSON). `subject`: the application's own key for the person. */
export interface CloudEvent extends Record<string, unknown> {
  specversion: '1.0';
  id: string;
  source: string;
  type: string;
  subject: string;
  time: string;
  datacontenttype: 'application/json';
  data: Record<string, unknown>;
}

export function cloudEvent(of: { id: string; source: string; kind: PersonEventKind; person: string; at: number; data: Record<string, unknown> }): CloudEvent {
  return {
    specversion: '1.0',
    id: of.id,
    source: of.source,
    type: typeOf(of.kind),
    subject: of.person,
    time: new Date(of.at).toISOString(),
    datacontenttype: 'application/json',
    data: of.data,
  };
}

const FIRST_MS = 5_000;
const MOST_MS = 2 * 3_600_000;
/** A day: then it is a dead letter, which someone can send again. */
const GIVEN_UP_MS = 86_400_000;

/** When a delivery that failed is tried again, ms from now; null: not again. `ageMs`: since the event. `spread`: 0 to 1. */
export function nextTryMs(of: { tries: number; ageMs: number; retryAfterMs: number | null; spread: number }): number | null {
  if (of.ageMs >= GIVEN_UP_MS) return null;
  const ceiling = Math.min(MOST_MS, FIRST_MS * 2 ** Math.min(of.tries, 20));
  return Math.max(of.retryAfterMs === null ? 0 : Math.min(of.retryAfterMs, MOST_MS), Math.ceil(ceiling * (0.5 + 0.5 * of.spread)));
}
