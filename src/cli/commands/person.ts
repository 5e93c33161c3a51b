import { CONNECTION_STATES } from '../../api/choices.ts';
import { STATES } from '../../api/vocabulary.ts';
import { oneOf, whole } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, task, verb } from '../row.ts';
import { line, list, one, state, text, worded } from '../show.ts';

/** `rk person`: people of a shared connection. What works for a connection works for a person's handle as well. */
export const person = () =>
  noun('person', 'people who connected their own accounts to a shared connection', [
    operation(
      verb('list', 'list people of a shared connection', 'rk person list crew-id --state action_needed')
        .argument('<connection>')
        .option('--search <text>', 'part of an account, a key, a name or a state')
        .addOption(oneOf('--state <state>', 'only these', CONNECTION_STATES))
        .option('--label <label>', 'only those with this label')
        .option('--after <handle>', 'handles after this one')
        .option('--limit <n>', 'how many', whole('--limit'), 100),
      {
        calls: 'listPeople',
        input: ({ args: [connection], options: { search, state: wanted, label, after, limit } }) => ({
          params: { connection },
          query: { search, state: wanted, label, after, limit },
        }),
        shows: (answer) => {
          const shown = list(
            answer.items,
            {
              PERSON: (each) => each.name ?? each.person,
              HANDLE: (each) => each.handle,
              STATE: (each) => state(each.state),
              ACCOUNT: (each) => each.account ?? '\u2013',
              CONNECTED: (each) => relative(each.connected_at),
              MISSING: (each) => each.missing.join(' '),
            },
            'No people yet. Invite one: rk invitation add CONNECTION --person KEY --purpose TEXT',
          );
          const counts = answer.counts.map((each) => `${each.count} ${STATES[each.state].label}`).join(', ');
          return { data: answer, parts: [...shown.parts, ...(counts ? [text(`All people: ${counts}`)] : [])] };
        },
      },
    ),
    task(
      verb('show', 'show one person', 'rk person show crew-id member-17').argument('<connection>').argument('<person>', 'the application\u2019s own key'),
      async ({ args: [connection, key], call }) => {
        const { items } = await call('listPeople', { params: { connection }, query: { person: key } });
        const [found] = items;
        if (!found) return line(`${connection} has no person with this key.`);
        return one(found, [
          ['Person', found.name ?? found.person],
          ['Key', found.person],
          ['Handle', found.handle],
          ['State', worded(STATES[found.state])],
          ['Cause', found.cause],
          ['What to do', found.remedy],
          ['Account', found.account],
          ['Scopes', found.scopes.join(' ')],
          ['Missing', found.missing.join(' ') || null],
          ['Labels', found.labels.join(' ') || null],
          ['Connected', relative(found.connected_at)],
          ['Reconnect by', found.reconnect_by === null ? null : relative(found.reconnect_by)],
          ['More', `rk connection show ${found.handle}`],
        ]);
      },
      { isReading: true },
    ),
    operation(
      verb('disconnect', 'end a person\u2019s grant here and at the provider', 'rk person disconnect crew-id member-17')
        .argument('<connection>')
        .argument('<person>', 'the application\u2019s own key, or the handle'),
      {
        calls: 'disconnectPerson',
        asks: ({ args: [connection, key] }) => `Disconnect ${key} from ${connection}? Applications lose this person\u2019s account at once.`,
        input: ({ args: [connection, key] }) => ({ params: { connection }, body: { person: key } }),
        shows: ({ says }) => line(`Disconnected. ${says}`),
      },
    ),
  ]);
