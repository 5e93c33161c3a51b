import type { Job, JobSettings, Recognized } from '../../api/jobs.ts';
import { MASK } from '../../core/calls/stored-values.ts';

type Plan = NonNullable<JobSettings['paging']>;
export type Chosen = { field: string; title: string; on: boolean };
export type Rule = 'keep' | 'drop' | 'mask' | 'hash';
type ScheduleKind = JobSettings['schedule']['kind'];

/** What a job's form holds while someone fills it in, and the settings that follow. Runs without a page. */
export class JobDraft {
  name = $state('');
  title = $state('');
  connection = $state('');
  kind = $state<ScheduleKind>('every');
  minutes = $state(60);
  expression = $state('0 6 * * 1-5');
  zone = $state('UTC');
  columns = $state<Chosen[]>([]);
  rules = $state<Record<string, Rule>>({});
  file = $state('');
  post = $state('');
  postFormat = $state<'csv' | 'ndjson' | 'json'>('json');
  secret = $state('');
  expectedLeast = $state<number | null>(null);
  missed = $state<'run_once' | 'skip'>('run_once');
  enabled = $state(true);
  /** What the form does not show: kept as it is. */
  rest = $state.raw<Partial<JobSettings>>({});

  /** Begins with a call and how it is paged, as it was tried. */
  static from(connection: string, settings: Partial<JobSettings>, columns: readonly string[]): JobDraft {
    const draft = new JobDraft();
    draft.connection = connection;
    draft.rest = settings;
    draft.columns = columns.map((field) => ({ field, title: '', on: true }));
    draft.zone = Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC';
    return draft;
  }

  /** Begins with the settings of a job. @param known columns that its results have */
  static of(job: Pick<Job, 'name' | 'connection' | 'settings'>, known: readonly string[]): JobDraft {
    const { settings } = job;
    const draft = JobDraft.from(job.connection, settings, []);
    const chosen = settings.layout.columns.map((one) => ({ field: one.field, title: one.title ?? '', on: true }));
    const others = known.filter((field) => !chosen.some((one) => one.field === field));
    draft.name = job.name;
    draft.title = settings.title;
    draft.columns = [...chosen, ...others.map((field) => ({ field, title: '', on: chosen.length === 0 }))];
    draft.rules = Object.fromEntries(settings.personal.map((one) => [one.field, one.rule]));
    draft.kind = settings.schedule.kind;
    if (settings.schedule.kind === 'every') draft.minutes = settings.schedule.minutes;
    if (settings.schedule.kind === 'cron') [draft.expression, draft.zone] = [settings.schedule.expression, settings.schedule.zone];
    for (const target of settings.deliver) {
      if (target.kind === 'file') draft.file = target.name;
      else [draft.post, draft.postFormat] = [target.url, target.format];
    }
    draft.expectedLeast = settings.expected_least;
    draft.missed = settings.missed;
    draft.enabled = settings.enabled;
    return draft;
  }

  schedule = $derived.by((): JobSettings['schedule'] => {
    if (this.kind === 'every') return { kind: 'every', minutes: this.minutes };
    return this.kind === 'cron' ? { kind: 'cron', expression: this.expression.trim(), zone: this.zone.trim() || 'UTC' } : { kind: 'manual' };
  });

  /** All columns as they came are no choice: later ones appear too. */
  readonly chosen = $derived.by(() => {
    const on = this.columns.filter((one) => one.on);
    const isAll = on.length === this.columns.length && on.every((one) => one.title.trim() === '');
    return isAll ? [] : on.map(({ field, title }) => (title.trim() === '' ? { field } : { field, title: title.trim() }));
  });

  /** Some of its values are not shown. */
  readonly isMasked = $derived(JSON.stringify([this.rest.call, this.rest.values, this.post]).includes(MASK));

  settings(): Partial<JobSettings> {
    const { layout, deliver, ...rest } = this.rest;
    const known = deliver ?? [];
    const [file, post] = [known.find((one) => one.kind === 'file'), known.find((one) => one.kind === 'post')];
    return {
      ...rest,
      title: this.title.trim(),
      schedule: this.schedule,
      missed: this.missed,
      enabled: this.enabled,
      expected_least: this.expectedLeast,
      layout: { delimiter: ',', bom: false, guard: true, ...layout, columns: this.chosen },
      personal: Object.entries(this.rules).flatMap(([field, rule]) => (rule === 'keep' ? [] : [{ field, rule }])),
      deliver: [
        ...(this.file.trim() === '' ? [] : [{ kind: 'file' as const, format: 'csv' as const, gzip: false, ...file, name: this.file.trim() }]),
        ...(this.post.trim() === '' ? [] : [{ ...post, kind: 'post' as const, url: this.post.trim(), format: this.postFormat }]),
      ],
    };
  }

  move(at: number, by: -1 | 1): void {
    const to = at + by;
    if (to < 0 || to >= this.columns.length) return;
    const next = [...this.columns];
    const [one] = next.splice(at, 1);
    if (one) next.splice(to, 0, one);
    this.columns = next;
  }
}

/** A draft on its way from Test call to the form; a reload begins with an empty one. */
export const handed: { draft: JobDraft | null } = { draft: null };

/** The plan that was confirmed, of those that were offered. */
export const planAt = (found: Recognized, chosen: number): Plan | null => (chosen < 0 ? null : (found.guesses[chosen]?.plan ?? null));
