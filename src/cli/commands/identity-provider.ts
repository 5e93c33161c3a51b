import type { IdentityProviderShown } from '../../api/identity.ts';
import { ROLES, type Role } from '../../api/roles.ts';
import { UsageError } from '../exit.ts';
import { listedMore } from '../options.ts';
import { relative } from '../print.ts';
import { noun, operation, verb } from '../row.ts';
import { line, one, type Shown, table, text } from '../show.ts';

const shown = (all: IdentityProviderShown): Shown => {
  const { provider: p } = all;
  const head = one(all, [
    ['Provider', p ? `${p.title} (${p.issuer})` : 'none. Set one: rk identity-provider set'],
    ['Client', p && `${p.client_id}${p.has_secret ? ', with a secret' : ', without a secret'}`],
    ['Groups from', p && `the claim ${p.groups_claim}`],
    ['Redirect URI', all.redirect_uri],
    ['Back-channel sign-out', all.logout_uri],
    ['Changed', p && `${relative(p.changed_at)} by ${p.changed_by}`],
  ]);
  const rules = table(
    p?.rules ?? [],
    { GROUP: (rule) => rule.group, ROLE: (rule) => rule.role, 'LIMITED TO': (rule) => (rule.labels.length === 0 ? 'none' : rule.labels.join(', ')) },
    '',
  );
  return { ...head, parts: [...head.parts, ...(p ? [rules] : []), ...all.warnings.map(text)] };
};

/** `GROUP=ROLE`, or `GROUP=ROLE:label,label`. @throws {UsageError} */
function rule(given: string, before: { group: string; role: Role; labels: string[] }[] | undefined) {
  const [, group = '', role = '', labels = ''] = /^(.+)=([a-z]+)(?::(.*))?$/.exec(given) ?? [];
  const found = ROLES.find((known) => known === role);
  if (!found) throw new UsageError(`--group takes GROUP=ROLE or GROUP=ROLE:label,label; a role is ${ROLES.join(', ')}.`);
  return [...(before ?? []), { group, role: found, labels: labels.split(',').filter(Boolean) }];
}

export const identityProvider = () =>
  noun('identity-provider', 'operators sign in at the company\u2019s own OpenID Connect provider', [
    operation(verb('show', 'show it, and what to register at it', 'rk identity-provider show'), { calls: 'showIdentityProvider', shows: shown }),
    operation(
      verb(
        'set',
        'set it up; its metadata is read now',
        'rk identity-provider set --title Company --issuer https://id.saltmarsh.example --client-id kettle --group ops=operator',
      )
        .requiredOption('--title <text>', 'its name on the sign-in page')
        .requiredOption('--issuer <address>', 'its issuer, to the letter')
        .requiredOption('--client-id <id>', 'the client that is registered at the provider')
        .option('--secret', 'read the client secret from standard input, or prompt for it')
        .option('--scope <scope...>', 'scopes besides openid', listedMore)
        .option('--groups-claim <name>', 'the claim with the groups', 'groups')
        .requiredOption('--group <rule>', 'a group and its role, may be repeated: GROUP=ROLE or GROUP=ROLE:label,label', rule),
      {
        calls: 'setIdentityProvider',
        input: async ({ options }) => {
          const { secret } = await import('../ask.ts');
          return {
            body: {
              ...{ title: options.title, issuer: options.issuer, client_id: options.clientId, groups_claim: options.groupsClaim, rules: options.group },
              ...(options.scope ? { scopes: options.scope } : {}),
              ...(options.secret ? { client_secret: await secret('Client secret') } : {}),
            },
          };
        },
        shows: shown,
      },
    ),
    operation(verb('remove', 'end sign-in through it; its accounts can no longer sign in', 'rk identity-provider remove --yes'), {
      calls: 'removeIdentityProvider',
      asks: () => 'End sign-in at the identity provider? Everyone who signed in at the provider is signed out.',
      shows: () => line('Removed. Local accounts sign in with their passwords.'),
    }),
  ]);
