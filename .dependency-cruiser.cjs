// The arrows of the house: imports go down the list, never up.
const never = (name, from, to, comment) => ({ name, severity: 'error', comment, from, to });
/** The rooms of the service, from the bottom up: each imports those before it. */
const ROOMS = [
  ['log-events', 'traces'],
  ['ports', 'context', 'settings', 'slow-down', 'lately', 'hash', 'iso', 'body-deadline'],
  ['problems', 'rounds'],
  ['store'],
  ['outgoing', 'workers', 'mail'],
  ['history'],
  ['database', 'sealer', 'log-level'],
  ['records', 'master-key'],
  ['renewal'],
  ['tokens', 'quotas'],
  ['asked', 'usage'],
  ['operators', 'providers', 'keys', 'backup', 'fence'],
  ['clients', 'identity'],
  ['grants'],
  ['consent', 'tool-sign-ins'],
  ['connections'],
  ['jobs', 'callers', 'forecast', 'people', 'relay', 'token-endpoint', 'replicas'],
  ['processes'],
  ['status', 'notices', 'metrics', 'rehearsals', 'bundle', 'privilege'],
  ['http'],
  ['housekeeping', 'start-up', 'restore', 'supervise'],
];
const inRooms = (rooms) => `^src/service/(${rooms.join('|')})(/|\\.ts$)`;
const roomRules = ROOMS.flatMap((rooms, at) =>
  rooms.map((room) =>
    never(
      `room-${room}`,
      { path: inRooms([room]), pathNot: '\\.test\\.ts$' },
      { path: inRooms(ROOMS.flatMap((others, level) => (level > at ? others : others.filter((other) => level === at && other !== room)))) },
      'a room of the service knows those below it, and neither those beside nor above it',
    ),
  ),
);

module.exports = {
  forbidden: [
    never('no-circles', {}, { circular: true }, 'A circle has no bottom; one of types neither.'),
    never('core-knows-nobody', { path: '^src/core' }, { path: '^src/(api|service|cli|console|standins)' }, 'core is pure'),
    never(
      'core-packages',
      { path: '^src/core', pathNot: '\\.test\\.ts$' },
      {
        dependencyTypes: ['npm', 'npm-dev'],
        pathNot:
          'node_modules/(zod|uuid|yaml|luxon|shell-quote|jose|fastest-levenshtein|@peculiar/x509|reflect-metadata|node-forge|re2js|croner|csv-stringify)/',
      },
      'core imports Zod and pure computing packages alone',
    ),
    never(
      'core-node',
      { path: '^src/core', pathNot: '\\.test\\.ts$' },
      { dependencyTypes: ['core'], pathNot: '^(node:)?crypto$' },
      'of Node.js, core uses node:crypto only',
    ),
    ...roomRules,
    never(
      'room-faces',
      { path: '^src/service/([^/]+)/', pathNot: '\\.test\\.ts$' },
      { path: '^src/service/[^/]+/', pathNot: '^src/service/($1/|store/|[^/]+/index\\.ts$)' },
      'a room is known by its face, index.ts',
    ),
    never('api-down', { path: '^src/api' }, { path: '^src/(service|cli|console|standins)' }, 'api imports core'),
    never('service-down', { path: '^src/service' }, { path: '^src/(cli|console|standins)' }, 'service imports core and api'),
    never(
      'sequelize-in-store',
      { path: '^src', pathNot: '^src/service/store/' },
      { path: 'node_modules/(sequelize|mariadb)/' },
      'the store is the only place that knows Sequelize',
    ),
    never(
      'sql-in-store',
      { path: '^src', pathNot: '^src/service/(store/|database/database-clock\\.ts|main\\.ts|composition/base\\.ts|practice\\.ts|restore\\.ts|start-up\\.ts)' },
      { path: '^src/service/store/(database|table|column|tokens|migrate|migrations)\\.ts$' },
      'only the store writes SQL; main.ts and restore.ts open the database and pass it on',
    ),
    never(
      'cli-down',
      { path: '^src/cli', pathNot: '^src/cli/commands/(serving|restoring)\\.ts$' },
      { path: '^src/(service|console|standins|core)' },
      'cli imports api; serve, standin and restore are the exception',
    ),
    never(
      'product-alone',
      { path: '^src', pathNot: '\\.test\\.ts$' },
      { path: '^(testing|test|demo|bench|scripts)/' },
      'the product knows nothing that does not ship',
    ),
    never('testing-down', { path: '^testing' }, { path: '^(test|demo|bench|scripts)/' }, 'testing/ is what tests, demo and benchmarks share'),
    never('demo-and-bench-down', { path: '^(demo|bench)' }, { path: '^test/' }, 'demo and benchmarks need no test'),
    never(
      'rehearsal-on-top',
      { path: '^src/(core|api|service|cli|console|standins)' },
      { path: '^src/rehearsal' },
      'the service starts the rehearsal as a program',
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
