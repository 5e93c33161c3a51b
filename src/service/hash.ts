import { hash } from 'node:crypto';

/** SHA-256, by which keys, tickets, codes and tokens are looked up: none of them is stored. */
export const hashOf = (text: string): Buffer => hash('sha256', text, 'buffer');
