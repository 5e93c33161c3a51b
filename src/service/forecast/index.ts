/** The face of this room: what will stop if nobody acts. */
export { addCalendar, calendarJson, calendarText, listCalendars, removeCalendar } from './calendars.ts';
export { listUpcoming, testPhases, upcoming } from './forecast.ts';
export type { ForecastParts } from './parts.ts';
