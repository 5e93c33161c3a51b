/** The face of this room: the fence between an installation and its restored copy. */
export { type Fence, fence } from './fence.ts';
export type { TransferPage } from './transfer.ts';
