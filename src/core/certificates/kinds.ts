/** What can be made: RSA with its bits, or a curve. */
export const KEY_KINDS = ['RSA-2048', 'RSA-3072', 'RSA-4096', 'P-256', 'P-384'] as const;
export type KeyKind = (typeof KEY_KINDS)[number];
