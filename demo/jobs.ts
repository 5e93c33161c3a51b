import type { ApiClient } from '../src/api/client.ts';
import type { Run } from '../src/api/jobs.ts';
import { eventually } from '../testing/waiting.ts';

const ended = (call: ApiClient, run: Pick<Run, 'id'>): Promise<Run> =>
  eventually(async () => {
    const seen = await call('showRun', { params: { run: run.id } });
    return ['done', 'failed'].includes(seen.state) ? seen : null;
  }, 60_000);

/** Runs a job to its end. */
export const runAgain = async (call: ApiClient, job: string): Promise<Run> => ended(call, await call('runJob', { params: { job } }));

/** Scheduled collections of Saltmarsh Ferries: all bookings every two minutes, the staff list each weekday, new postings each hour. */
export async function seedJobs(call: ApiClient, berths = 'berths'): Promise<void> {
  await call('addJob', {
    body: {
      name: 'berth-report',
      title: 'All bookings of the northern harbours',
      connection: berths,
      call: { method: 'GET', path: '/bookings' },
      schedule: { kind: 'every', minutes: 2 },
      layout: {
        columns: [
          { field: 'id', title: 'Booking' },
          { field: 'berth', title: 'Berth' },
          { field: 'boat', title: 'Boat' },
          { field: 'day', title: 'Day' },
          { field: 'from', title: 'From' },
          { field: 'hours', title: 'Hours' },
          { field: 'skipper.name', title: 'Skipper' },
          { field: 'skipper.phone', title: 'Phone' },
        ],
      },
      personal: [
        { field: 'skipper.name', rule: 'hash' },
        { field: 'skipper.phone', rule: 'mask' },
      ],
      expected_least: 1_000,
      deliver: [{ kind: 'file', name: '{job}.csv' }],
    },
  });
  await call('addJob', {
    body: {
      name: 'staff-list',
      title: 'Staff directory, each weekday at six',
      connection: 'staff',
      call: { method: 'GET', path: '/people' },
      schedule: { kind: 'cron', expression: '0 6 * * 1-5', zone: 'Europe/London' },
    },
  });
  await call('permitCaller', { params: { caller: 'berth-report' }, body: { connection: berths, use: 'token' } });
  for (const job of ['berth-report', 'staff-list']) await runAgain(call, job);
}

/** Every provider's list once, to its end: what the tour shows. */
export async function collectEverywhere(call: ApiClient): Promise<string[]> {
  const lists: [connection: string, path: string][] = [
    ['sailings', '/tables/sailings/rows'],
    ['berths', '/bookings'],
    ['ledger', '/postings'],
    ['staff', '/people'],
    ['rosters', '/rosters'],
    ['forum', '/threads'],
    ['crew-certificates', '/checks'],
    ['parcels', '/parcels'],
    ['announcements', '/announcements'],
  ];
  const { items } = await call('listConnections', { query: { limit: 500 } });
  const said: string[] = [];
  for (const [connection, path] of lists) {
    const one = items.find((each) => each.name === connection);
    if (!one) throw new Error(`${connection} is missing`);
    const run = await ended(call, await call('collect', { params: { connection }, body: { call: { method: 'GET', path } } }));
    said.push(`${one.provider_title}: ${run.records} records in ${run.calls} calls, ${run.completeness?.verdict.replaceAll('_', ' ') ?? run.problem?.says}`);
    if (run.completeness?.verdict !== 'complete') throw new Error(said.at(-1));
  }
  return said;
}
