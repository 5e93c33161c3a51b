/** Events about a person's connection, for applications. */
export const PERSON_EVENTS = ['consented', 'scopes_changed', 'action_needed', 'disconnected', 'withdrawn', 'expires_soon', 'asked'] as const;
export type PersonEventKind = (typeof PERSON_EVENTS)[number];

/** Its type as a CloudEvent. */
export const personEventType = (kind: PersonEventKind): string => `person.${kind}`;
