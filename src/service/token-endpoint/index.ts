/** The face of this room: our token endpoint. */
export { addressReader, tokenLane } from './lane.ts';
export { tokenEndpoint } from './token-endpoint.ts';
