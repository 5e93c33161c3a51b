import type { Campaign } from '../../api/people.ts';
import { whole } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, verb } from '../row.ts';
import { list, one, type Shown } from '../show.ts';

const progress = ({ people, have }: Campaign): string => `${have} of ${people}${people > 0 ? ` (${Math.floor((100 * have) / people)} %)` : ''}`;
const shown = (campaign: Campaign): Shown =>
  one(campaign, [
    ['Campaign', campaign.name],
    ['State', campaign.state],
    ['Purpose', campaign.purpose],
    ['Scopes', campaign.scopes.join(' ')],
    ['Granted', progress(campaign)],
    ['Asked', String(campaign.asked)],
    ['Asked enough', campaign.exhausted > 0 ? `${campaign.exhausted} people did not consent after ${campaign.times_most} requests` : null],
    ['Reminders', `at most ${campaign.times_most} requests, ${campaign.remind_hours} hours apart`],
    ['Begun', relative(campaign.created_at)],
    ['Ended', campaign.ended_at === null ? null : relative(campaign.ended_at)],
  ]);
const named = ({ args: [connection] }: { args: [string, ...unknown[]] }) => ({ params: { connection } });

/** `rk campaign`: everyone who lacks a scope of a shared connection is asked to consent again. */
export const campaign = () =>
  noun('campaign', 'ask everyone of a shared connection to consent again', [
    operation(
      verb('add', 'ask everyone who lacks a scope, or uses another client', 'rk campaign add crew-id calendars --purpose "Show your calendar, too"')
        .argument('<connection>', 'a shared connection')
        .argument('<name>')
        .requiredOption('--purpose <text>', 'why, in words for the people')
        .option('--caller <name>', 'the application for which they connect')
        .option('--times <n>', 'how often one person is asked at most', whole('--times'), 3)
        .option('--remind <hours>', 'at least so long between two requests', whole('--remind'), 72),
      {
        calls: 'addCampaign',
        input: (given) => {
          const { purpose, caller, times, remind } = given.options;
          return { ...named(given), body: { name: given.args[1], purpose, caller, times_most: times, remind_hours: remind } };
        },
        shows: shown,
      },
    ),
    operation(verb('list', 'list campaigns with their progress', 'rk campaign list crew-id').argument('<connection>'), {
      calls: 'listCampaigns',
      input: named,
      shows: ({ items }) =>
        list(
          items,
          {
            NAME: (each) => each.name,
            STATE: (each) => each.state,
            GRANTED: progress,
            ASKED: (each) => String(each.asked),
            BEGUN: (each) => relative(each.created_at),
          },
          'No campaigns yet. Begin one: rk campaign add CONNECTION NAME --purpose TEXT',
        ),
    }),
    operation(verb('end', 'end a campaign: nobody is asked any more', 'rk campaign end crew-id calendars').argument('<connection>').argument('<name>'), {
      calls: 'endCampaign',
      asks: ({ args: [, name] }) => `End the campaign ${name}? Nobody is asked any more.`,
      input: ({ args: [connection, name] }) => ({ params: { connection, campaign: name } }),
      shows: shown,
    }),
  ]);
