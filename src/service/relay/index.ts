/** The face of this room: the relay. */
export { relayLane } from './relay.ts';
export { type Relayed, relayed } from './relayed.ts';
