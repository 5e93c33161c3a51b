import { homedir } from 'node:os';
import { join } from 'node:path';

/** Where service and `rk` look for the data folder when none is set. */
export const defaultDataFolder = (environment: NodeJS.ProcessEnv): string =>
  process.getuid?.() === 0 ? '/var/lib/rusty-kettle' : join(environment.XDG_DATA_HOME ?? join(homedir(), '.local', 'share'), 'rusty-kettle');
