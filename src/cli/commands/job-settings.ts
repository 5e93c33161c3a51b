import type { Command, OptionValues } from '@commander-js/extra-typings';
import { FORMATS } from '../../api/choices.ts';
import type { JobSettings } from '../../api/jobs.ts';
import { UsageError } from '../exit.ts';
import { oneOf, pairs, whole } from '../options.ts';
import { readText } from './provider-source.ts';

/** `id,guest.name=Guest`: fields with their titles. @throws {UsageError} */
export function columns(text: string, before: { field: string; title?: string }[] | undefined): { field: string; title?: string }[] {
  const read = text.split(',').map((one) => {
    const at = one.indexOf('=');
    const [field, title] = at < 0 ? [one.trim(), ''] : [one.slice(0, at).trim(), one.slice(at + 1).trim()];
    if (field === '') throw new UsageError('Name columns as FIELD or FIELD=TITLE, separated by commas.');
    return title === '' ? { field } : { field, title };
  });
  return [...(before ?? []), ...read];
}

/** `guest.email=mask`. @throws {UsageError} */
function personal(text: string, before: { field: string; rule: 'drop' | 'mask' | 'hash' }[] | undefined): { field: string; rule: 'drop' | 'mask' | 'hash' }[] {
  const [field = '', rule = ''] = text.split('=');
  if (field === '' || (rule !== 'drop' && rule !== 'mask' && rule !== 'hash')) throw new UsageError(`Write FIELD=drop, FIELD=mask or FIELD=hash, not ${text}.`);
  return [...(before ?? []), { field, rule }];
}

/** JSON or YAML, as it stands, or from @FILE. @throws {UsageError} */
export async function document(given: string): Promise<Record<string, unknown>> {
  const { parse } = await import('yaml'); // loaded when it is needed: rk --help is quick
  const read: unknown = parse(given.startsWith('@') ? readText(given.slice(1)) : given);
  if (typeof read !== 'object' || read === null || Array.isArray(read)) throw new UsageError('This is not an object in JSON or YAML.');
  return read as Record<string, unknown>;
}

/** What describes a job on the command line; `--settings` takes the rest. */
export const withSettings = <A extends unknown[], O extends OptionValues>(command: Command<A, O>) =>
  command
    .option('--path <path>', 'the call: GET this path\u2026')
    .option('--saved <call>', '\u2026or a saved call of the connection')
    .option('--fill <name=value...>', 'values for the names in braces', pairs)
    .option('--every <minutes>', 'run every so many minutes', whole('--every'))
    .option('--cron <expression>', 'run by a cron expression, such as "0 6 * * 1-5"')
    .option('--zone <zone>', 'the time zone of --cron, such as Europe/Oslo')
    .option('--title <text>', 'a title for people')
    .option('--columns <list...>', 'FIELD or FIELD=TITLE, separated by commas; default: all', columns)
    .option('--personal <field=rule...>', 'drop, mask or hash a personal field before it is kept', personal)
    .option('--deliver-file <name...>', 'also write a file below the output folder, such as {job}-{date}.csv')
    .option('--deliver-post <address...>', 'also POST the result to an application')
    .addOption(oneOf('--deliver-format <format>', 'the format of these', FORMATS))
    .option('--settings <document>', 'all other settings, in JSON or YAML, or @FILE; see docs/JOBS.md')
    .option('--off', 'do not run by the schedule')
    .option('--on', 'run by the schedule again');

export interface SettingsOptions {
  path?: string;
  saved?: string;
  fill?: Record<string, string>;
  every?: number;
  cron?: string;
  zone?: string;
  title?: string;
  columns?: { field: string; title?: string }[];
  personal?: { field: string; rule: 'drop' | 'mask' | 'hash' }[];
  deliverFile?: string[];
  deliverPost?: string[];
  deliverFormat?: (typeof FORMATS)[number];
  settings?: string;
  off?: true;
  on?: true;
}

/** The settings as they were, with what was given. @throws {UsageError} */
export async function settingsFrom(options: SettingsOptions, before: Partial<JobSettings> = {}): Promise<Record<string, unknown>> {
  if (options.every !== undefined && options.cron !== undefined) throw new UsageError('Choose --every or --cron.');
  if (options.path !== undefined && options.saved !== undefined) throw new UsageError('Choose --path or --saved.');
  if (options.zone !== undefined && options.cron === undefined && before.schedule?.kind !== 'cron') throw new UsageError('--zone goes with --cron.');
  const format = options.deliverFormat ?? 'csv';
  const deliver = [
    ...(options.deliverFile ?? []).map((name) => ({ kind: 'file', name, format })),
    ...(options.deliverPost ?? []).map((url) => ({ kind: 'post', url, format })),
  ];
  const { call, saved, ...rest } = before;
  const named =
    options.path !== undefined
      ? { call: { method: 'GET', path: options.path } }
      : options.saved !== undefined
        ? { saved: options.saved }
        : { ...(call ? { call } : {}), ...(saved ? { saved } : {}) };
  return {
    ...rest,
    ...named,
    ...(options.fill === undefined ? {} : { values: { ...before.values, ...options.fill } }),
    ...scheduleFrom(options, before),
    ...(options.title === undefined ? {} : { title: options.title }),
    ...(options.columns === undefined ? {} : { layout: { ...before.layout, columns: options.columns } }),
    ...(options.personal === undefined ? {} : { personal: options.personal }),
    ...(deliver.length === 0 ? {} : { deliver }),
    ...(options.off ? { enabled: false } : options.on ? { enabled: true } : {}),
    ...(options.settings === undefined ? {} : await document(options.settings)),
  };
}

function scheduleFrom({ every, cron, zone }: SettingsOptions, before: Partial<JobSettings>): Record<string, unknown> {
  if (every !== undefined) return { schedule: { kind: 'every', minutes: every } };
  if (cron !== undefined) return { schedule: { kind: 'cron', expression: cron, ...(zone === undefined ? {} : { zone }) } };
  return zone !== undefined && before.schedule?.kind === 'cron' ? { schedule: { ...before.schedule, zone } } : {};
}
