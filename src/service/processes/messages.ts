/** What the process that supervises and those that serve say to each other. */
export type ToServer =
  /** How to start: settings besides those of the environment. */
  | { kind: 'begin'; environment: Record<string, string>; isFirst: boolean }
  /** All stop, others first: who comes is told so. */
  | { kind: 'stopping' }
  | { kind: 'stop' }
  /** The port takes no connection any more. */
  | { kind: 'port_closed' }
  /** Give your own figures. */
  | { kind: 'figures_asked'; id: number }
  /** The figures of all processes. */
  | { kind: 'figures'; id: number; text: string };

export type ToSupervisor =
  /** Listens; what was sent before is lost. */
  | { kind: 'begun' }
  | ({ kind: 'ready' } & Ready)
  /** The last one that serves: close the port, without losing whom it has let in. */
  | { kind: 'close_port' }
  /** Figures of this process, as prom-client exports them. */
  | { kind: 'own_figures'; id: number; figures: object[] }
  /** Give the figures of all processes. */
  | { kind: 'all_figures'; id: number };

/** What a process reports when it serves. */
export interface Ready {
  publicUrl: string;
  firstOperatorFile: string | null;
  /** Of the private database, where it started one; null: the database is given. */
  privateDatabase: string | null;
}
