import type { StoredOutcome } from '../store/consents.ts';

/** A consent of which nothing is known yet. */
export const emptyOutcome = (): StoredOutcome => ({
  account: null,
  opened: null,
  scopes: null,
  refresh_token: null,
  access_token_life_seconds: null,
  first_call: null,
  problem: null,
  warnings: [],
  decide: null,
});
