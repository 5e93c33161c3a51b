import type { z } from 'zod';
import type { Access, ParamsOf } from '../api/operation.ts';
import type { OperationName, Operations } from '../api/operations.ts';
import type { KnownCaller } from './tokens/index.ts';

export interface SignedInOperator {
  name: string;
  sessionId: string;
  /** Epoch ms. */
  endsAt: number;
  kind: string;
}

/** Who asks, as the access rule of the operation lets them in. */
export type Actor<A extends Access = Access> = {
  address: string;
  /** What this browser got when someone signed in with it before. */
  device: string | undefined;
} & (A extends 'operator' | 'operator_at_sign_in'
  ? { operator: SignedInOperator }
  : A extends 'caller'
    ? { caller: KnownCaller }
    : A extends 'consent_or_operator'
      ? { operator: SignedInOperator | null }
      : object);

type Parsed<N extends OperationName, K extends 'body' | 'query'> = Operations[N] extends Record<K, infer S extends z.ZodType> ? z.output<S> : undefined;

/** One call of an operation: everything parsed, and who asks. */
export interface Asked<N extends OperationName> {
  params: ParamsOf<Operations[N]['path']>;
  query: Parsed<N, 'query'>;
  body: Parsed<N, 'body'>;
  actor: Actor<Operations[N]['access']>;
}

/** A call that changes something; one command can pass its own actor on to another. */
export type Command<N extends OperationName> = Omit<Asked<N>, 'query'>;
