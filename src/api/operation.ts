import { z } from 'zod';

/**
 * Who may call an operation: anyone, a signed-in operator, a browser that holds this consent's cookie as well, only an operator whose
 * browser was sent here by this sign-in request, or a caller with its own id and key.
 */
export type Access = 'anyone' | 'operator' | 'consent_or_operator' | 'operator_at_sign_in' | 'caller';

export interface Operation {
  method: 'GET' | 'POST' | 'PATCH' | 'DELETE';
  /** Parameters in braces, as OpenAPI writes them. */
  path: string;
  access: Access;
  says: string;
  /** The largest body taken; left out: 256 kB. */
  bodyLimit?: string;
  query?: z.ZodType;
  body?: z.ZodType;
  /** A request without a body is taken as an empty one. */
  bodyOptional?: true;
  answer: z.ZodType;
  /** Values that may be secrets are in the response as they are. Left out: operators get `(secret)`. */
  unmasked?: true;
}

/** The parameters in braces of a path literal. */
export type ParamsOf<P extends string> = { [K in ParamNames<P>]: string };
type ParamNames<P extends string> = P extends `${string}{${infer Name}}${infer Rest}` ? Name | ParamNames<Rest> : never;
/** Their names, in order. */
export const paramNames = (path: string): string[] => [...path.matchAll(/\{(\w+)\}/g)].map((match) => match[1] ?? '');

export const list = <T extends z.ZodType>(item: T) => z.object({ items: z.array(item) });
/** An address with what may be the key to it. */
export const StoredAddress = z.object({ url: z.string().nullable() });
export const Done = z.object({ done: z.literal(true) });
