/** The face of this room: outgoing HTTP. */
export { mayBeCalled } from './lookup.ts';
export { outgoing } from './send.ts';
