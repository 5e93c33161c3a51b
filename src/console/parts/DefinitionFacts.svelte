<script lang="ts">
  import type { ProviderDefinition } from '../../core/provider/definition.ts';

  const { definition: d }: { definition: ProviderDefinition } = $props();
  const REUSE = { kills_grant: 'ends the grant', refused: 'is rejected', grace: 'is forgiven' };
  const acts = { person: '', itself: 'for itself', either: 'for a person or itself' };
  const habits = $derived([
    ...(d.dialect.scope_separator === ' ' ? [] : [`scopes are joined by “${d.dialect.scope_separator}”`]),
    ...(d.dialect.token_request === 'json' ? ['token requests are JSON'] : []),
    ...(d.dialect.basic_encoding === 'raw' ? ['Basic is not encoded first'] : []),
    ...(d.dialect.text_numbers ? ['numbers may be text'] : []),
    ...(d.dialect.error_at ? [`errors may come with status 200, at ${d.dialect.error_at}`] : []),
    ...Object.entries(d.dialect.token_answer)
      .filter(([name]) => name !== 'token_type')
      .map(([name, place]) => `${name.replaceAll('_', ' ')} stands at ${place}`),
    ...Object.entries({ ...d.dialect.authorization_parameters, ...d.dialect.token_parameters }).map(
      ([name, value]) => `sends ${name}=${value}`,
    ),
    ...(d.dialect.renewal_ends_access_token ? ['a renewal ends the access token issued before'] : []),
    ...(d.dialect.refresh_tokens_most ? [`at most ${d.dialect.refresh_tokens_most} refresh tokens for each person and client`] : []),
  ]);
  const ROTATION = { never: 'stay the same', each_use: 'are replaced at each use', unknown: 'may be replaced (not known)' };
</script>

<dl class="facts">
  {#if d.server.issuer}<dt>Issuer</dt>
    <dd class="mono">{d.server.issuer}</dd>{/if}
  <dt>Authorization endpoint</dt>
  <dd class={d.server.authorization_endpoint ? 'mono' : ''}>
    {d.server.authorization_endpoint ?? 'none: clients authenticate as themselves'}
  </dd>
  <dt>Token endpoint</dt>
  <dd class="mono">{d.server.token_endpoint}</dd>
  {#if d.server.userinfo_endpoint}<dt>User-info endpoint</dt>
    <dd class="mono">{d.server.userinfo_endpoint}</dd>{/if}
  <dt>Client authentication</dt>
  <dd>{d.server.token_endpoint_auth_methods_supported.join(' or ')}</dd>
  {#if d.placeholders.length > 0}<dt>Placeholders</dt>
    <dd>
      {#each d.placeholders as one (one.name)}<div>
          <code>{`{${one.name}}`}</code>
          {one.title}, requested at the {one.level}{one.example ? `, such as ${one.example}` : ''}
        </div>{/each}
    </dd>{/if}
  {#if d.variants.length > 0}<dt>Variants</dt>
    <dd>
      {#each d.variants as one (one.name)}<div>
          <strong>{one.title}</strong>{one.environments.length > 0 ? ` for ${one.environments.join(', ')}` : ''}: {one.says}
        </div>{/each}
    </dd>{/if}
  <dt>APIs</dt>
  <dd>
    {#each d.apis as api (api.name)}<div>
        {api.title}: <span class="mono">{api.base_url}</span>{#each api.probes as probe (probe.path)}; {probe.capability} verified by
          <span class="mono">{probe.method} {probe.path}</span>{probe.effects
            ? ' (has effects)'
            : ''}{/each}{#if api.token_header !== 'authorization' || api.token_word !== 'Bearer'}; the token goes as <span class="mono"
            >{api.token_header}: {api.token_word} …</span
          >{/if}{#if api.operations.length > 0}; {api.operations.length} operations known{/if}
      </div>{/each}
  </dd>
  <dt>Refresh tokens</dt>
  <dd>
    {ROTATION[d.dialect.rotation]}{#if d.dialect.rotation !== 'never'}; a second use {REUSE[d.dialect.reuse]}{d.dialect.reuse_grace_seconds
        ? ` for ${d.dialect.reuse_grace_seconds} s`
        : ''}{/if}
  </dd>
  {#if d.server.authorization_endpoint}<dt>PKCE</dt>
    <dd class={d.dialect.pkce === 'none' ? 'text-warning font-semibold' : ''}>
      {d.dialect.pkce === 'none' ? 'none: a weakness of this provider' : d.dialect.pkce}
    </dd>{/if}
  {#if habits.length > 0}<dt>Habits</dt>
    <dd>{habits.join('; ')}</dd>{/if}
  <dt>Scopes</dt>
  <dd>
    {#each d.scopes as scope (scope.name)}<div>
        <code>{scope.name}</code>
        {scope.says}
        <span class="text-base-content/70 text-sm"
          >{[scope.power, acts[scope.acts_for], scope.organization ? 'the organization must consent' : ''].filter(Boolean).join(', ')}</span
        >
      </div>{:else}none listed{/each}
  </dd>
</dl>
