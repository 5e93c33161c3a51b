import { CAUSES, causeFacts } from '../../src/core/diagnosis/causes.ts';
import { FAULTS } from '../../src/core/fault-table.ts';
import { CAUSE_WORDS } from '../../src/core/health.ts';

const anchor = (code: string): string => code.toLowerCase().replaceAll('_', '-');
const cell = (text: string): string => text.replaceAll('|', '\\|').replaceAll('\n', ' ');

/** docs/ERRORS.md: every error code, every cause of a state, every diagnosis, from their tables. */
export function errorsDocument(): string {
  const faults = Object.entries(FAULTS).map(
    ([code, one]) => `| <a id="${anchor(code)}"></a>\`${code}\` | ${one.status} | ${cell(one.says)} | ${cell(one.remedy)} | ${one.retry ? 'yes' : 'no'} |`,
  );
  const states = Object.entries(CAUSE_WORDS).map(([key, one]) => `| \`${key}\` | ${cell(one.cause)} | ${cell(one.remedy)} |`);
  const causes = CAUSES.map((key) => {
    const { verdict, side, title, remedy } = causeFacts(key);
    return `| \`${key}\` | ${verdict.replaceAll('_', ' ')} | ${side} | ${cell(title)} | ${cell(remedy)} |`;
  });
  return `<!-- Made by \`npm run docs\` from src/core; do not edit by hand. -->
# Errors and causes

## Error codes

The API answers with RFC 9457 problems; \`code\` is one of these. \`rk\` prints the same message and remedy.

| code | status | message | what to do | retry |
|---|---|---|---|---|
${faults.join('\n')}

## Causes of a connection\u2019s state

| cause | message | what to do |
|---|---|---|
${states.join('\n')}

## Diagnoses

What a failed consent, renewal or call means, and which side fixes it.

| cause | verdict | fixed by | message | what to do |
|---|---|---|---|---|
${causes.join('\n')}
`;
}
