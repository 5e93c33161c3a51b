import { FAULTS } from './fault-table.ts';

export type FaultCode = keyof typeof FAULTS;

/** One place in the input that is wrong, as a JSON path, a line where known, and what to do. */
export interface FaultPlace {
  path: string;
  line?: number;
  why: string;
  /** `unlikely`: it has the shape of another value. Whoever knows better sends it with `take_as_is`. */
  kind?: 'unlikely';
}

export interface FaultOptions extends ErrorOptions {
  /** One sentence about this case. Never a body, never a token. */
  detail?: string;
  /** Replaces the table's remedy where this case has a better one. */
  remedy?: string;
  places?: FaultPlace[];
  /** A lower bound for trying again, in milliseconds. */
  retryAfterMs?: number;
  /** How a sign-in goes on with a second factor. */
  secondFactor?: SecondFactorAsked;
}

/** What finishes a sign-in. */
export interface SecondFactorAsked {
  ticket: string;
  methods: ('code' | 'passkey')[];
  passkey_options: Record<string, unknown> | null;
}

/** An expected failure with a public code. Foreign errors are wrapped with `cause` where they enter. */
export class Fault extends Error {
  readonly code: FaultCode;
  readonly detail: string | undefined;
  readonly remedy: string;
  readonly places: FaultPlace[];
  readonly retryAfterMs: number | undefined;
  readonly secondFactor: SecondFactorAsked | undefined;

  constructor(code: FaultCode, options: FaultOptions = {}) {
    const { detail, remedy, places, retryAfterMs, secondFactor, ...rest } = options;
    super(detail ? `${FAULTS[code].says} ${detail}` : FAULTS[code].says, rest);
    this.name = 'Fault';
    this.code = code;
    this.detail = detail;
    this.remedy = remedy ?? FAULTS[code].remedy;
    this.places = places ?? [];
    this.retryAfterMs = retryAfterMs;
    this.secondFactor = secondFactor;
  }

  get status(): number {
    return FAULTS[this.code].status;
  }
}
