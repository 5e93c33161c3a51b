import { hash, timingSafeEqual } from 'node:crypto';

/** SHA-256, by which keys, tickets, codes and tokens are looked up: none of them is stored. */
export const hashOf = (text: string): Buffer => hash('sha256', text, 'buffer');

/** The same as text, for keys of maps. */
export const hashTextOf = (text: string): string => hash('sha256', text, 'base64');

/** Whether this is the text whose hash was kept; takes equally long for every wrong one. */
export const isHashOf = (kept: Buffer | null, text: string | undefined): boolean => kept !== null && text !== undefined && timingSafeEqual(kept, hashOf(text));
