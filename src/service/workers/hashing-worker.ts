import { hashSync, verifySync } from '@node-rs/argon2';

/** Argon2 in a thread of its own: libuv's four threads are left to name resolution, which every outgoing call needs. */
export type HashTask = { hash: string } | { verify: string; against: string };
export default (task: HashTask): string | boolean => ('hash' in task ? hashSync(task.hash) : verifySync(task.against, task.verify));
