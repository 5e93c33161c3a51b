import { relative } from '../print.ts';
import { operation, verb } from '../row.ts';
import { line, list, table, text } from '../show.ts';

/** What can be called on a connection, what was saved, and what is left of its quotas. */
export const callCommands = () => [
  operation(
    verb('calls', 'list the API\u2019s operations with parameters and needed scopes, and the saved calls', 'rk connection calls sailings').argument('<name>'),
    {
      calls: 'offeredCalls',
      input: ({ args: [name] }) => ({ params: { connection: name } }),
      shows: (offered, { args: [name] }) => ({
        data: offered,
        parts: [
          table(
            offered.operations,
            {
              OPERATION: (one) => one.id,
              CALL: (one) => `${one.method} ${one.path}`,
              PARAMETERS: (one) => one.parameters.map((parameter) => `${parameter.name}${parameter.required ? '' : '?'}`).join(', ') || '\u2013',
              SCOPES: (one) => one.needs.map((scopes) => scopes.join(' + ')).join(' or ') || '\u2013',
              ALLOWED: (one) => (one.allowed ? 'yes' : 'no'),
              COST: (one) => String(one.weight),
            },
            'The definition lists no operations. You can call any path of the API.',
          ),
          table(
            offered.saved,
            {
              SAVED: (one) => one.name,
              CALL: (one) => `${one.call.method} ${one.call.path}`,
              PARAMETERS: (one) =>
                one.parameters.map((parameter) => (parameter.value === null ? parameter.name : `${parameter.name}=${parameter.value}`)).join(', ') || '\u2013',
              BY: (one) => `${one.saved_by}, ${relative(one.saved_at)}`,
            },
            `No saved calls yet. Save one: rk call ${name} GET /path --save NAME`,
          ),
        ],
      }),
    },
  ),
  operation(verb('delete-call', 'delete a saved call', 'rk connection delete-call sailings boats').argument('<name>').argument('<call>', 'its name'), {
    calls: 'removeCall',
    asks: ({ args: [name, saved] }) => `Delete the saved call ${saved} of ${name}? Everyone who uses it loses it.`,
    input: ({ args: [connection, saved] }) => ({ params: { connection, call: saved } }),
    shows: (_done, { args: [, saved] }) => line(`Deleted ${saved}.`),
  }),
  operation(verb('quota', 'show what is left of the provider\u2019s quotas, as counted here', 'rk connection quota parcels').argument('<name>'), {
    calls: 'showQuota',
    input: ({ args: [name] }) => ({ params: { connection: name } }),
    shows: ({ items, says }) => {
      const shown = list(
        items,
        {
          API: (one) => one.api,
          QUOTA: (one) => one.says,
          OF: (one) => (one.caller === null ? `the ${one.of}` : `${one.caller}\u2019s share`),
          LEFT: (one) => String(one.left),
          EXPECTED: (one) => (one.expected_left === null ? '\u2013' : String(one.expected_left)),
          RESETS: (one) => relative(one.resets_at),
          PAUSED: (one) => (one.held_until ? `until ${relative(one.held_until)}, as the provider requested` : '\u2013'),
        },
        says,
      );
      return items.length > 0 ? { ...shown, parts: [...shown.parts, text(says)] } : shown;
    },
  }),
];
