import type { PersonEvents } from '../../api/people.ts';
import { PERSON_EVENT_LABELS } from '../../api/vocabulary.ts';
import { relative } from '../print.ts';
import { operation, task, verb } from '../row.ts';
import { line, one, type Shown, table } from '../show.ts';

const shownEvents = (events: PersonEvents): Shown => {
  const head = one(events, [
    ['Sent to', events.url ?? 'nowhere: the application reads the feed, /api/v1/own/events'],
    ['Signed', events.url === null ? null : events.signed ? 'yes, by Standard Webhooks' : 'no: set a signing secret'],
  ]);
  const deliveries = table(
    events.deliveries,
    {
      CURSOR: (each) => each.cursor,
      EVENT: (each) => PERSON_EVENT_LABELS[each.kind],
      PERSON: (each) => each.person,
      AT: (each) => relative(each.at),
      STATE: (each) => each.state,
      TRIES: (each) => String(each.tries),
      NOTE: (each) => each.says,
    },
    'Nothing was sent yet.',
  );
  return { ...head, parts: [...head.parts, deliveries] };
};

/** Events about people, for an application: `rk caller events`, `send-events`, `replay-events`. */
export const eventCommands = () => [
  operation(verb('events', 'show where events about people are sent, and the last deliveries', 'rk caller events crew-portal').argument('<name>'), {
    calls: 'showEventReceiver',
    input: ({ args: [caller] }) => ({ params: { caller } }),
    shows: shownEvents,
  }),
  task(
    verb(
      'send-events',
      'send events about people to an application',
      'rk caller send-events crew-portal --to https://portal.saltmarsh.example/events --signing-secret',
    )
      .argument('<name>')
      .option('--to <address>', 'where they are sent')
      .option('--signing-secret', 'read the secret for the signature from standard input')
      .option('--off', 'send no more'),
    async ({ args: [caller], options: { to, signingSecret, off }, call }) => {
      const params = { caller };
      if (off) {
        await call('removeEventReceiver', { params });
        return line(`${caller} gets no more events; it can still read the feed.`);
      }
      const { url } = to === undefined ? await call('showEventReceiver', { params }) : { url: to };
      const secret = signingSecret ? { signing_secret: await (await import('../ask.ts')).secret('Signing secret') } : {};
      return shownEvents(await call('setEventReceiver', { params, body: { url: url ?? '', ...secret } }));
    },
  ),
  operation(
    verb('replay-events', 'send failed events again, or all since a cursor', 'rk caller replay-events crew-portal')
      .argument('<name>')
      .option('--from <cursor>', 'all since this one'),
    {
      calls: 'replayEvents',
      input: ({ args: [caller], options }) => ({ params: { caller }, body: { from: options.from } }),
      shows: (answer) => line(`${answer.sent_again} sent again.`),
    },
  ),
];
