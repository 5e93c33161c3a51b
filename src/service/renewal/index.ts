/** The face of this room: renewal by the protocol of docs/RENEWAL.md, and what it keeps. */
export { type AnswerKeeper, answerKeeper, sealTokens } from './answer-keeper.ts';
export { type ClientHealth, clientHealth } from './client-health.ts';
export { type ConnectionStates, connectionStates } from './connection-states.ts';
export { type ClientSecrets, clientSecrets, signingOf } from './credentials.ts';
export { type Definitions, definitions } from './definitions.ts';
export { type RenewalEngine, renewalEngine } from './engine.ts';
export { evidenceText, tokenLife } from './evidence.ts';
export { canSpend, type GrantContexts, grantContexts } from './grant-context.ts';
export { type Ground, ground, type PutBackAll } from './ground.ts';
export { holders } from './holders.ts';
export { type InstallationHold, installationHold } from './installation-hold.ts';
export { type NewestAnswer, type NewestAnswers, newestAnswers } from './newest-answers.ts';
export { type Sightings, sightings } from './sightings.ts';
export { type Spares, spares } from './spares.ts';
export { answerOf, answerText, type FirstAnswer, type Spill, type SpilledAnswer, spill } from './spill.ts';
export { type CachedToken, hasEnoughLife, type TokenCache, tokenCache } from './token-cache.ts';
export { type WireLog, wireLog } from './wire-log.ts';
export { keepRenewing } from './worker.ts';
