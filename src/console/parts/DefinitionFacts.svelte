<script lang="ts">
  import type { ProviderDefinition } from '../../core/provider/definition.ts';

  const { definition: d }: { definition: ProviderDefinition } = $props();
  const REUSE = { kills_grant: 'ends the grant', refused: 'is refused', grace: 'is forgiven' };
</script>

<dl class="facts">
  <dt>Issuer</dt><dd class="mono">{d.server.issuer}</dd>
  <dt>Authorization endpoint</dt><dd class="mono">{d.server.authorization_endpoint}</dd>
  <dt>Token endpoint</dt><dd class="mono">{d.server.token_endpoint}</dd>
  {#if d.server.userinfo_endpoint}<dt>User-info endpoint</dt><dd class="mono">{d.server.userinfo_endpoint}</dd>{/if}
  <dt>Client authentication</dt><dd>{d.server.token_endpoint_auth_methods_supported.join(' or ')}</dd>
  <dt>APIs</dt><dd>{#each d.apis as api (api.name)}<div>{api.title}: <span class="mono">{api.base_url}</span>{#if api.probe}; proved by <span class="mono">{api.probe.method} {api.probe.path}</span>{/if}</div>{/each}</dd>
  <dt>Refresh tokens</dt><dd>{d.dialect.rotation === 'never' ? 'stay the same' : d.dialect.rotation === 'each_use' ? 'are replaced at each use' : 'may be replaced'}{#if d.dialect.rotation !== 'never'}; a second use {REUSE[d.dialect.reuse]}{d.dialect.reuse_grace_seconds ? ` for ${d.dialect.reuse_grace_seconds} s` : ''}{/if}</dd>
  <dt>PKCE</dt><dd class={d.dialect.pkce === 'none' ? 'text-warning font-semibold' : ''}>{d.dialect.pkce === 'none' ? 'none: a weakness of this provider' : d.dialect.pkce}</dd>
  <dt>Scopes</dt><dd>{#each d.scopes as scope (scope.name)}<div><code>{scope.name}</code> {scope.says}</div>{/each}</dd>
</dl>
