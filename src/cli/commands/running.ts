import { Argument } from '@commander-js/extra-typings';
import { LOG_LEVELS } from '../../api/choices.ts';
import type { AnswerOf } from '../../api/operations.ts';
import { whole } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, verb } from '../row.ts';
import { list, one, text } from '../show.ts';

const RISKS_SHOWN = 10;

const shownState = (state: AnswerOf<'showInstallation'>) =>
  one(state, [
    ['Renewals', state.held ? `on hold since ${relative(state.held_at)}` : 'go on'],
    ['Why', state.why],
    ['What to do', state.held ? 'make sure that no other copy renews these grants and every replica has been started, then: rk installation own' : null],
  ]);

export const installation = () =>
  noun('installation', 'this installation as a whole: does it own the grants?', [
    operation(verb('show', 'show whether renewals are on hold, and why', 'rk installation show'), {
      calls: 'showInstallation',
      shows: shownState,
    }),
    operation(verb('risks', 'list what `own` risks, connection by connection', 'rk installation risks'), {
      calls: 'listInstallationRisks',
      shows: ({ items }) =>
        list(
          items,
          {
            CONNECTION: (one) => one.connection,
            PROVIDER: (one) => one.provider,
            RENEWED: (one) => relative(one.renewed_at),
            RISK: (one) => one.says,
          },
          'No connection has a refresh token that rotates.',
        ),
    }),
    operation(verb('own', 'confirm that this installation owns the grants: renewals continue', 'rk installation own'), {
      calls: 'ownInstallation',
      asks: async ({ call }) => {
        const { items, more } = await call('listInstallationRisks');
        const lines = items.slice(0, RISKS_SHOWN).map((one) => `  ${one.connection} (${one.provider}), renewed ${relative(one.renewed_at)}: ${one.says}`);
        const rest = more || items.length > RISKS_SHOWN ? ['  More: rk installation risks'] : [];
        const risks = items.length === 0 ? [] : ['At risk, where a later renewal was lost or another installation renews too:', ...lines, ...rest];
        return [...risks, 'Are you sure that no other installation renews these grants, and that every replica has been started?'].join('\n');
      },
      shows: shownState,
    }),
  ]);

/** `rk log`: the level of the log, for a while. */
export const log = () =>
  noun('log', 'the log of the service', [
    operation(verb('show', 'show the level of the log', 'rk log show'), { calls: 'showLogLevel', shows: shownLevel }),
    operation(
      verb('level', 'change the level for a while, on all replicas that run', 'rk log level debug --minutes 30')
        .addArgument(new Argument('<level>').choices(LOG_LEVELS))
        .option('--minutes <count>', 'after which the configured level applies again', whole('--minutes'), 60),
      {
        calls: 'setLogLevel',
        input: ({ args: [level], options: { minutes } }) => ({ body: { level, minutes } }),
        shows: shownLevel,
      },
    ),
  ]);
const shownLevel = (now: AnswerOf<'showLogLevel'>) =>
  one(now, [
    ['Level', now.level],
    ['Until', now.until === null ? null : relative(now.until)],
    ['Configured', now.usual],
  ]);

export const replica = () =>
  noun('replica', 'the running services that share one database', [
    operation(verb('list', 'list the replicas of the last day', 'rk replica list'), {
      calls: 'listReplicas',
      shows: ({ items }) =>
        list(
          items,
          {
            INSTANCE: (each) => each.instance,
            STATE: (each) => (each.alive ? 'alive' : each.roles.includes('stopped') ? 'stopped' : 'silent'),
            START: (each) => String(each.incarnation),
            SINCE: (each) => relative(each.started_at),
            SEEN: (each) => relative(each.seen_at),
          },
          'No replica was seen in the last day.',
        ),
    }),
    operation(
      verb('adopt', 'save the answers that a dead replica left in its data folder', 'rk replica adopt /var/lib/rusty-kettle-2').argument(
        '<folder>',
        'its data folder, on the machine of the service',
      ),
      {
        calls: 'adoptReplica',
        input: ({ args: [folder] }) => ({ body: { folder } }),
        shows: (adopted) => {
          const shown = one(adopted, [
            ['Instance', adopted.instance],
            ['Answers saved', String(adopted.answers_saved)],
            ['Renewals freed', String(adopted.renewals_freed)],
          ]);
          return { ...shown, parts: [...shown.parts, text('The other replicas know that it holds nothing any more.')] };
        },
      },
    ),
  ]);
