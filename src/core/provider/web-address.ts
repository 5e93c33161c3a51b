import { z } from 'zod';
import { parseUrl } from '../url.ts';
import { withSamples } from './placeholder-text.ts';

const LOOPBACK = /^(127(\.\d{1,3}){3}|localhost|[a-z0-9.-]+\.localhost|\[::1\])$/;

/** True for hosts that can only be this machine (RFC 6761 §6.3). Plain http is accepted there alone. */
export const isLoopbackHost = (hostname: string): boolean => LOOPBACK.test(hostname);

/** True for an absolute https address without user or fragment; http on loopback only. It may hold {placeholders}. */
export function isWebAddress(text: string): boolean {
  const url = parseUrl(withSamples(text));
  return url !== null && !url.username && !url.hash && (url.protocol === 'https:' || (url.protocol === 'http:' && isLoopbackHost(url.hostname)));
}

/** An address in a definition. */
export const webAddress = (what: string) =>
  z
    .string()
    .max(1000)
    .refine(isWebAddress, { error: `${what} must be an absolute https address without a fragment (http on loopback only).` });

/** A place in a JSON document (RFC 6901), such as /data/token. */
export const jsonPointer = z
  .string()
  .max(200)
  .regex(/^(\/[^/]*)+$/, { error: 'Use a JSON pointer (RFC 6901), such as /sub.' });

/** RFC 6749 §3.3: scope-token = 1*( %x21 / %x23-5B / %x5D-7E ). */
export const ScopeName = z
  .string()
  .max(300)
  .regex(/^[\x21\x23-\x5b\x5d-\x7e]+$/, { error: 'A scope is one word without spaces, quotes or backslashes (RFC 6749 §3.3).' });

/** A header's name (RFC 9110 §5.1), in lower case, and what may stand in one. */
export const headerName = z.string().regex(/^[a-z0-9][a-z0-9-]{0,60}$/, { error: 'A header name is lower-case letters, digits and hyphens.' });
export const printable = (most: number) =>
  z.string().regex(new RegExp(`^[\\x20-\\x7e]{1,${most}}$`), { error: `Printable ASCII, at most ${most} characters.` });
