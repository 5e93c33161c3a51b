import type { NoticeDelivery } from '../../api/notices.ts';
import { NOTICE_EVENT_WORDS } from '../../api/vocabulary.ts';
import { relative } from '../print.ts';

/** What was sent of a notice, by columns. */
export const DELIVERED: Record<string, (each: NoticeDelivery) => string> = {
  NEWS: (each) => NOTICE_EVENT_WORDS[each.event],
  STATE: (each) => each.state,
  AT: (each) => relative(each.at),
  DUE: (each) => relative(each.due_at),
  NOTE: (each) => each.says,
};
