import type { Attempt } from '../../api/connections.ts';
import type { WireRecord } from '../../core/oauth/wire-record.ts';
import { iso } from '../iso.ts';

/** A kept attempt as it is shown. */
export const attemptView = ({ at, kind, record }: { at: number; kind: string; record: WireRecord }): Attempt => ({ at: iso(at), class: kind, ...record });
