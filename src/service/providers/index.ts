/** The face of this room: providers. */
export { shownAddresses } from './addresses.ts';
export { digestOf } from './digest.ts';
export { draftProvider } from './drafts.ts';
export type { ProviderParts } from './parts.ts';
export { addProvider, checkProvider, composeProvider, findProvider, listProviders, listVersions, removeProvider, showProvider } from './providers.ts';
