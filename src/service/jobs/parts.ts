import type { ConnectionParts } from '../connections/index.ts';
import type { Store } from '../store/store.ts';
import type { Writing } from '../workers/index.ts';
import type { Bell } from './bell.ts';

/** Jobs depend on these, and on what their connections depend on. */
export interface JobParts extends ConnectionParts {
  /** Of the data folder: a former life of it is dead. */
  instanceId: string;
  store: ConnectionParts['store'] & Pick<Store, 'limits' | 'runs'>;
  /** Rung when there is something to do at once. */
  jobBell: Bell;
  /** Makes files of records beside the service's own thread. */
  writing: Pick<Writing, 'pages'>;
}
