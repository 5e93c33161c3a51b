import type { Request } from 'express';
import type { ProviderDefinition } from '../core/provider/definition.ts';
import type { Faults } from './faults.ts';
import type { Lists } from './lists.ts';
import type { StandinStore } from './state.ts';

export interface Lives {
  accessSeconds: number;
  /** Where given: each token lives for a random time between both. */
  accessSecondsMost?: number;
  /** Of a session at an API that wants the second step. */
  sessionSeconds?: number;
}

/** One use of a refresh token that was looked at, for tests that judge whether it should have been sent. */
export interface RefreshUse {
  token: string;
  grantId: string | null;
  headers: Request['headers'];
  /** It had been replaced by an earlier use. */
  second: boolean;
  renewed: boolean;
  /** The refresh token that the answer brings, if any. */
  brings: string | null;
  /** When the connection closed: had the whole answer been handed to it? */
  closed: Promise<boolean>;
}

export interface ServerParts {
  definition: ProviderDefinition;
  /** The placeholders' values of this part of the provider, such as a region. */
  realm: string;
  store: StandinStore;
  faults: Faults;
  lives: Lives;
  lists: Lists;
  now(): number;
  count(what: string): void;
  watch?: ((use: RefreshUse) => void) | undefined;
}
