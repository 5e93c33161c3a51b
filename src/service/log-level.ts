import { LOG_LEVELS, type LogLevel } from '../api/log-levels.ts';
import type { Changes } from './history/index.ts';
import type { Log, Ports } from './ports.ts';

/** The level of the log, which an operator may change for a while on all replicas that run. */
export interface LogLevelSwitch {
  /** @param minutes after which it is the configured level again */
  set(level: LogLevel, minutes: number): Promise<void>;
  show(): { level: LogLevel; usual: LogLevel; until: number | null };
  stop(): void;
}

const isLevel = (word: string): word is LogLevel => (LOG_LEVELS as readonly string[]).includes(word);

/** @param log of this process; its level is set in place */
export function logLevelSwitch({
  log,
  usual,
  changes,
  clock,
}: {
  log: Log & { level: string };
  usual: LogLevel;
  changes: Pick<Changes, 'announce' | 'onChange'>;
  clock: Ports['clock'];
}): LogLevelSwitch {
  let until: number | null = null;
  let timer: NodeJS.Timeout | null = null;
  const back = (): void => {
    [until, timer] = [null, null];
    log.level = usual;
  };
  changes.onChange((kind, subject) => {
    if (kind !== 'log_level') return;
    const [level = '', at = ''] = subject.split(' ');
    const leftMs = Number(at) - clock.now();
    if (!isLevel(level) || !(leftMs > 0)) return;
    if (timer) clearTimeout(timer);
    timer = setTimeout(back, leftMs).unref();
    until = Number(at);
    log.level = level;
    log.warn({ event: 'service.log_level', level, until: new Date(until).toISOString() }, 'the log level was changed');
  });
  return {
    set: (level, minutes) => changes.announce('log_level', `${level} ${clock.now() + minutes * 60_000}`),
    show: () => ({ level: isLevel(log.level) ? log.level : usual, usual, until }),
    stop: () => void (timer && clearTimeout(timer)),
  };
}
