import { SettingsTable } from '../../src/service/settings-table.ts';

/** docs/SETTINGS.md, from the table that the service reads its settings by. */
export function settingsDocument(): string {
  const rows = Object.entries(SettingsTable.shape).map(([name, schema]) => {
    const { description, shown } = schema.meta() as { description: string; shown?: string };
    const byDefault = schema.safeParse(undefined).data;
    return `| \`${name}\` | ${shown ?? (byDefault === undefined ? 'none' : `\`${byDefault}\``)} | ${description} |`;
  });
  return `<!-- Made by \`npm run docs\` from src/service/settings-table.ts; do not edit by hand. -->
# Settings

All settings are environment variables. The service refuses to start with an unknown \`RUSTY_KETTLE_\u2026\` name.

## The service (\`rk serve\`)

| name | default | description |
|---|---|---|
${rows.join('\n')}
| \`HTTPS_PROXY\`, \`HTTP_PROXY\`, \`NO_PROXY\` | none | The proxy for calls to providers, as other programs read them; loopback never goes through it. The proxy resolves names then, so it must reject private addresses. |
| \`NODE_EXTRA_CA_CERTS\` | none | A file with further certificate authorities (PEM), read by Node.js when it starts. |

[RENEWAL.md](RENEWAL.md) explains the limits of renewal.

## The command line (\`rk\`)

| name | description |
|---|---|
| \`RUSTY_KETTLE_URL\` | The service\u2019s address, if \`--url\` is not given and you are not signed in. |
| \`RUSTY_KETTLE_CALLER_ID\`, \`RUSTY_KETTLE_CALLER_KEY\` | A caller\u2019s ID and key, for \`rk token\`. |
| \`NO_COLOR\` | No colors. |
`;
}
