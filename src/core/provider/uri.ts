import { z } from 'zod';

/** An absolute URI without a fragment, of any scheme (RFC 8707 §2): `urn:` too. It may hold {placeholders}. */
export const absoluteUri = (what: string) =>
  z
    .string()
    .max(1000)
    .regex(/^[A-Za-z][A-Za-z0-9+.-]*:[^\s#"<>\\^`|]+$/, {
      error: `${what} must be an absolute URI without a fragment, such as https://api.provider.example or urn:example:api.`,
    });
