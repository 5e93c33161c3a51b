// The arrows of the house: imports go down the list, never up.
const never = (name, from, to, comment) => ({ name, severity: 'error', comment, from, to });
module.exports = {
  forbidden: [
    never('no-circles', {}, { circular: true, viaOnly: { dependencyTypesNot: ['type-only'] } }, 'A circle has no bottom.'),
    never('core-knows-nobody', { path: '^src/core' }, { path: '^src/(api|service|cli|console|standins)' }, 'core is pure'),
    never(
      'core-packages',
      { path: '^src/core', pathNot: '\\.test\\.ts$' },
      {
        dependencyTypes: ['npm', 'npm-dev'],
        pathNot: 'node_modules/(zod|uuid|yaml|luxon|shell-quote|jose|fastest-levenshtein|@peculiar/x509|reflect-metadata|node-forge|re2js)/',
      },
      'core imports Zod and pure computing packages alone',
    ),
    never(
      'core-node',
      { path: '^src/core', pathNot: '\\.test\\.ts$' },
      { dependencyTypes: ['core'], pathNot: '^(node:)?crypto$' },
      'of Node.js, core uses node:crypto only',
    ),
    never('api-down', { path: '^src/api' }, { path: '^src/(service|cli|console|standins)' }, 'api imports core'),
    never('service-down', { path: '^src/service' }, { path: '^src/(cli|console|standins)' }, 'service imports core and api'),
    never(
      'sequelize-in-store',
      { path: '^src', pathNot: '^src/service/store/' },
      { path: 'node_modules/(sequelize|mariadb|umzug)/' },
      'the store is the only place that knows Sequelize',
    ),
    never(
      'sql-in-store',
      { path: '^src', pathNot: '^src/service/(store/|database/database-clock\\.ts|main\\.ts|start-up\\.ts)' },
      { path: '^src/service/store/(database|table|column|tokens|migrations)\\.ts$' },
      'only the store writes SQL; main.ts opens the database and passes it on',
    ),
    never(
      'cli-down',
      { path: '^src/cli', pathNot: '^src/cli/commands/serving\\.ts$' },
      { path: '^src/(service|console|standins|core)' },
      'cli imports api; serve and standin are the one exception',
    ),
    never('console-api', { path: '^src/console' }, { path: '^src/(service|cli|standins)' }, 'console imports api'),
    never('standins-core', { path: '^src/standins' }, { path: '^src/(service|cli|console|api)' }, 'stand-ins import core'),
    never(
      'no-dev-packages',
      { path: '^src/(core|api|service|cli|standins)', pathNot: '\\.test\\.ts$' },
      { dependencyTypes: ['npm-dev'] },
      'what runs must be a dependency',
    ),
  ],
  options: {
    doNotFollow: { path: 'node_modules' },
    tsPreCompilationDeps: true,
    tsConfig: { fileName: 'tsconfig.json' },
    enhancedResolveOptions: {
      exportsFields: ['exports'],
      conditionNames: ['import', 'node', 'default'],
      extensions: ['.ts', '.js', '.mjs', '.svelte', '.json'],
    },
  },
};
