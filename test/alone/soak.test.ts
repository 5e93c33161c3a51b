import { expect, test } from 'vitest';
import { SHORT_LIMITS } from '../../testing/service.ts';
import { inWords, soak } from '../soak/soak.ts';

test('a short soak: replicas and database killed and frozen, providers failing; nothing expired is issued, nothing recoverable is lost', async () => {
  const report = await soak({
    seconds: 25,
    connections: 300,
    lives: { least: 8, most: 20 },
    freezeMost: 4,
    holderWaitMs: Number(SHORT_LIMITS.RUSTY_KETTLE_HOLDER_WAIT_MS),
    settleMs: 120_000,
    environment: { RUSTY_KETTLE_SILENT_MS: '3000' },
    say: () => undefined,
  });
  const words = inWords(report);
  expect([report.expired, report.held, report.recoverableLost, report.unsettled], words).toEqual([[], [], [], []]);
  expect(report.checked, words).toBeGreaterThan(500);
  expect(Object.keys(report.faults).filter((name) => /killed|frozen/.test(name)).length, words).toBeGreaterThan(0);
}, 240_000);
