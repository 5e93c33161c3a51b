import { writeFileSync } from 'node:fs';
import { apiDocument, bundleSchemaDocument, schemaDocument } from './api.ts';
import { commandsDocument } from './commands.ts';
import { dialectDocument } from './dialect.ts';
import { errorsDocument } from './errors.ts';
import { logDocument } from './log.ts';
import { manualPage } from './manual.ts';
import { rolesDocument } from './roles.ts';
import { settingsDocument } from './settings.ts';

/** What docs/ holds that is made from tables and schemas: written by `npm run docs`, and compared by a test. */
export const DOCUMENTS: Record<string, () => string> = {
  'docs/API.md': apiDocument,
  'docs/CLI.md': commandsDocument,
  'docs/ERRORS.md': errorsDocument,
  'docs/LOG.md': logDocument,
  'docs/ROLES.md': rolesDocument,
  'docs/rk.1': manualPage,
  'docs/DIALECT.md': dialectDocument,
  'docs/SETTINGS.md': settingsDocument,
  'docs/bundle.schema.json': bundleSchemaDocument,
  'docs/provider-definition.schema.json': schemaDocument,
};

if (process.argv[1] === import.meta.filename)
  for (const [file, document] of Object.entries(DOCUMENTS)) writeFileSync(new URL(`../../${file}`, import.meta.url), document());
