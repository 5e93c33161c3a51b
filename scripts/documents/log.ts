import { LOG_EVENTS } from '../../src/service/log-events.ts';

/** docs/LOG.md, from the table of events that the service's log is typed by. */
export const logDocument = (): string => `<!-- Made by \`npm run docs\` from src/service/log-events.ts; do not edit by hand. -->
# Log, metrics, traces

The service writes its log to standard error, one JSON object in each line. \`event\` names what happened and stays the same from version to version; \`msg\` is a sentence for people. No line holds a secret, an account or a path of a relayed call.

\`\`\`
{"level":30,"time":1798531200000,"pid":4711,"event":"service.ready","publicUrl":"https://tokens.example","msg":"ready"}
\`\`\`

## The level, while it runs

\`rk log level debug --minutes 30\` changes the level on all replicas that run; after that time \`RUSTY_KETTLE_LOG_LEVEL\` applies again. The console has it under **Settings > Log**. \`rk log show\` shows the level now.

## Events

| event | what happened |
|---|---|
${Object.entries(LOG_EVENTS)
  .map(([event, what]) => `| \`${event}\` | ${what} |`)
  .join('\n')}

## Traces

With \`RUSTY_KETTLE_TRACES_URL\` the service sends spans of OpenTelemetry (OTLP over HTTP, JSON). Off by default.

| span | around | attributes |
|---|---|---|
| \`token.issue\` | a token request | status |
| \`token.renew\` | a renewal from its claim to its outcome | grant, client, whether a caller waits, why it was given back |
| \`relay.call\` | a relayed call | caller, connection, method, status, whether the token was renewed |
| \`job.run\` | a run of a job, as far as this replica works on it | run, job, connection, number |
| \`provider.request\` | each request to a provider, within the span that needs it | host, method, status |

With traces on, a token is not issued by the shortest way, so that each request has its span. Expect fewer tokens a second.

## Metrics

\`/metrics\` in [run in production](how-to/run-in-production.md).
`;
