import { z } from 'zod';

/** The most characters of a person's key, as the application writes it. */
const MAX_KEY = 200;
/** Line breaks and other control characters have no place in a header, a log or an address. */
const CONTROL = /\p{Cc}/u;
const LONE_SURROGATE = /\p{Surrogate}/u;

/** What is wrong with an application's own key for a person; null: nothing. Any other text is taken as it is: case and form count. */
export function personKeyProblem(key: string): string | null {
  if (key === '') return 'Send the application\u2019s own key for the person.';
  if ([...key].length > MAX_KEY) return `A key has at most ${MAX_KEY} characters.`;
  if (LONE_SURROGATE.test(key)) return 'The key holds half of a character (a lone surrogate).';
  if (CONTROL.test(key)) return 'The key holds a control character.';
  // RFC 3986 §5.2.4: clients take these out of a path, also when they are percent-encoded (WHATWG URL).
  if (key === '.' || key === '..') return 'A dot or two dots cannot stand in a path.';
  return null;
}

/** The application's own key for a person: opaque, compared byte by byte. */
export const PersonKey = z
  .string()
  .superRefine((key, context) => {
    const why = personKeyProblem(key);
    if (why !== null) context.addIssue({ code: 'custom', message: why });
  })
  .describe('The application\u2019s own key for the person: any text of up to 200 characters, compared byte by byte');

/** A key as one segment of a path (RFC 3986 §3.3). */
export const personSegment = (key: string): string => encodeURIComponent(key);

/** The key that a segment of a path names, decoded exactly once; null: no key can be written so. */
export function readPersonSegment(segment: string): string | null {
  try {
    const key = decodeURIComponent(segment);
    return personKeyProblem(key) === null ? key : null;
  } catch {
    return null; // a percent sign without two digits, or bytes that are not UTF-8
  }
}

const TARGET = /^([a-z0-9][a-z0-9._-]{0,62})\/people\/([^/?#]{1,2400})$/;

/** `NAME/people/KEY` as callers write it in a resource, a scope or a path; null: it names no person. */
export function readPersonTarget(target: string): { connection: string; key: string } | null {
  const match = TARGET.exec(target);
  const key = match ? readPersonSegment(match[2] as string) : null;
  return match && key !== null ? { connection: match[1] as string, key } : null;
}

/** For logs: enough to recognize, not enough to use. */
export const shortKey = (key: string): string => ([...key].length <= 4 ? '\u2026' : `${[...key].slice(0, 3).join('')}\u2026`);
