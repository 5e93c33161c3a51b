/** The face of this room: notices, and the channels by which people get them. */
export { addChannel, changeChannel, listChannels, removeChannel, replayChannel, showChannel, showChannelValues, testChannel } from './channels.ts';
export { keepNotices } from './keep.ts';
export { acknowledgeNotice, assignNotice, listNotices, showNotice, snoozeNotice } from './notices.ts';
export type { NoticeParts } from './parts.ts';
export { watchWrites } from './refused-writes.ts';
export { sendNotices } from './send.ts';
