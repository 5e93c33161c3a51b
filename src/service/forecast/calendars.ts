import type { AddedCalendar, Calendar, UpcomingListed } from '../../api/upcoming.ts';
import { Fault } from '../../core/fault.ts';
import { CANCELED_KEPT_DAYS, calendar, reconcileCalendar } from '../../core/forecast/calendar.ts';
import { base64url } from '../../core/identifiers.ts';
import { hashOf } from '../hash.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { CalendarRow } from '../store/forecast.ts';
import { listUpcoming, upcoming } from './forecast.ts';
import type { ForecastParts } from './parts.ts';

const TOKEN_BYTES = 24;
const DAYS = 90;
const DAY_MS = 86_400_000;
const MOST = 100;

const view = (row: CalendarRow): Calendar => ({
  id: row.id,
  name: row.name,
  created_by: row.createdBy,
  created_at: iso(row.createdAt),
  last_read_at: isoOrNull(row.lastReadAt),
});

export async function listCalendars(s: ForecastParts): Promise<{ items: Calendar[] }> {
  return { items: (await s.store.forecast.calendars()).map(view) };
}

/** A private address for a calendar program, which cannot sign in. Whoever has it can read what is upcoming, and nothing else. */
export async function addCalendar(s: ForecastParts, { body, actor }: Command<'addCalendar'>): Promise<AddedCalendar> {
  const present = await s.store.forecast.calendars();
  if (present.some((one) => one.name === body.name)) throw new Fault('NAME_TAKEN', { detail: `A calendar called ${body.name} exists.` });
  if (present.length >= MOST) throw new Fault('INPUT_INVALID', { detail: `There are at most ${MOST} calendars.`, remedy: 'Remove one that nobody reads.' });
  const token = base64url(s.ports.random.bytes(TOKEN_BYTES));
  const row: CalendarRow = {
    id: recordId(s.ports),
    name: body.name,
    tokenHash: hashOf(token),
    createdBy: actor.operator.name,
    createdAt: s.ports.clock.now(),
    lastReadAt: null,
  };
  await s.store.forecast.addCalendar(row);
  s.history.add({ actor: actor.operator.name, kind: 'calendar_added', subject: 'installation', says: `Made the calendar address ${body.name}.` });
  return { ...view(row), url: `${s.settings.publicUrl}/calendar/${token}.ics` };
}

export async function removeCalendar(s: ForecastParts, { params, actor }: Command<'removeCalendar'>): Promise<{ done: true }> {
  if (!(await s.store.forecast.removeCalendar(params.calendar))) throw new Fault('NOT_FOUND', { detail: 'There is no such calendar.' });
  s.history.add({ actor: actor.operator.name, kind: 'calendar_removed', subject: 'installation', says: 'Revoked a calendar address.' });
  return { done: true };
}

/** The same as JSON, for a program that makes a page of its own; null: there is no such address, or not any more. */
export async function calendarJson(s: ForecastParts, token: string): Promise<UpcomingListed | null> {
  return (await s.store.forecast.readCalendar(hashOf(token))) ? listUpcoming(s, { days: DAYS }) : null;
}

/** The feed behind a private address; null: there is none, or not any more. */
export async function calendarText(s: ForecastParts, token: string): Promise<string | null> {
  if (!(await s.store.forecast.readCalendar(hashOf(token)))) return null;
  const now = s.ports.clock.now();
  const items = await upcoming(s, DAYS);
  const { all, changed } = reconcileCalendar(await s.store.forecast.calendarEntries(), items, now);
  if (changed.length > 0) await s.store.forecast.keepCalendarEntries(changed, now - CANCELED_KEPT_DAYS * DAY_MS);
  return calendar(items, all, { host: new URL(s.settings.publicUrl).host, url: s.settings.publicUrl, now });
}
