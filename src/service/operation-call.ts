import type { z } from 'zod';
import type { Access, ParamsOf } from '../api/operation.ts';
import type { OperationName, Operations } from '../api/operations.ts';
import type { SessionKind } from '../api/operators.ts';
import type { Role } from '../api/roles.ts';
import type { KnownCaller } from './tokens/index.ts';

export interface SignedInOperator {
  id: string;
  name: string;
  /** Of a personal token: the lesser of the token's and its owner's. */
  role: Role;
  /** Limits the account to connections with one of these labels; none: no limit. */
  labels: readonly string[];
  sessionId: string;
  /** Epoch ms. */
  endsAt: number;
  kind: SessionKind;
  /** When password or second factor were entered last, epoch ms. */
  confirmedAt: number | null;
}

/** Sensitive actions ask again after so long. */
export const CONFIRMED_MS = 600_000;

/** Who asks, as the access rule of the operation lets them in. */
export type Actor<A extends Access = Access> = {
  address: string;
  /** What this browser got when someone signed in with it before. */
  device: string | undefined;
  /** The program that asks, as it names itself. */
  agent: string | null;
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

/** The labels to which an account is limited; undefined: it is not. */
export type Limits = readonly string[] | undefined;
export const limitsOf = ({ labels }: Pick<SignedInOperator, 'labels'>): Limits => (labels.length === 0 ? undefined : labels);

/** For what someone without a login here does through a command of operators; who asks was checked before. @param name as the activity log shows it */
export const noOperator = (name: string): SignedInOperator => ({
  ...{ id: '', name, role: 'operator', labels: [], sessionId: '', endsAt: 0, kind: 'program', confirmedAt: null },
});

/** A call that changes something; one command can pass its own actor on to another. */
export type Command<N extends OperationName> = Omit<Asked<N>, 'query'>;
