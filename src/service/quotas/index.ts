/** The face of this room: quotas. */
export { type Quotas, type QuotaUse, quotas } from './quotas.ts';
