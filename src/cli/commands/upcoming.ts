import { CERTAINTY_WORDS, counted } from '../../api/vocabulary.ts';
import { oneOf, whole } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, verb } from '../row.ts';
import { line, list, one } from '../show.ts';

const WHO = ['operator', 'person', 'provider'] as const;

/** `rk upcoming`: what will stop if nobody acts. */
export const upcoming = () =>
  operation(
    verb('upcoming', 'show what will stop if nobody acts, and the latest moment to begin', 'rk upcoming --days 30')
      .option('--days <n>', 'how far ahead', whole('--days'), 90)
      .option('--label <label>', 'only what hits connections with this label')
      .addOption(oneOf('--who <who>', 'only what they must do', WHO)),
    {
      calls: 'listUpcoming',
      input: ({ options: { days, label, who } }) => ({ query: { days, label, who } }),
      shows: ({ items }, { options }) =>
        list(
          items,
          {
            EXPIRES: (each) => relative(each.at),
            WHAT: (each) => each.what,
            'BEGIN BY': (each) => relative(each.act_by),
            SURE: (each) => CERTAINTY_WORDS[each.certainty],
            WHO: (each) => each.who,
            STOPS: (each) => (each.breaks.connections === 0 ? '\u2013' : counted(each.breaks.connections, 'connection')),
            FIX: (each) => each.command,
          },
          options.label || options.who
            ? `Nothing in the next ${options.days} days matches the filter.`
            : `Nothing is known to stop in the next ${options.days} days.`,
        ),
    },
  );

/** `rk calendar`: private addresses at which calendar programs subscribe. */
export const calendar = () =>
  noun('calendar', 'private addresses at which calendars show what is upcoming', [
    operation(verb('add', 'make an address; it is shown once', 'rk calendar add office').argument('<name>'), {
      calls: 'addCalendar',
      input: ({ args: [name] }) => ({ body: { name } }),
      shows: (made) =>
        one(made, [
          ['Address', made.url],
          ['Name', made.name],
          ['ID', made.id],
        ]),
    }),
    operation(verb('list', 'list calendar addresses', 'rk calendar list'), {
      calls: 'listCalendars',
      shows: ({ items }) =>
        list(
          items,
          {
            NAME: (each) => each.name,
            BY: (each) => each.created_by,
            MADE: (each) => relative(each.created_at),
            READ: (each) => relative(each.last_read_at),
            ID: (each) => each.id,
          },
          'No calendars yet. Make one: rk calendar add NAME',
        ),
    }),
    operation(verb('remove', 'revoke an address: it stops answering', 'rk calendar remove 01a22508-d38d-711c-841b-4b3507b84f23').argument('<id>'), {
      calls: 'removeCalendar',
      asks: ({ args: [id] }) => `Revoke the calendar ${id}? Its subscribers get nothing any more.`,
      input: ({ args: [id] }) => ({ params: { calendar: id } }),
      shows: () => line('Revoked.'),
    }),
  ]);
