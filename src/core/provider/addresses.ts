/** The parts of a definition in which addresses stand. */
interface Addressed {
  server: object;
  apis: readonly { base_url: string }[];
  identity?: { endpoint?: string | undefined } | undefined;
  registration: { page?: string | undefined };
  dialect: { revocation?: { address?: string | undefined } | undefined; resource?: string | undefined };
}

/** Every address of a definition, as it is written, with the place where it stands. */
export function addressesOf(definition: Addressed): { path: (string | number)[]; value: string }[] {
  const all: { path: (string | number)[]; value: unknown }[] = [
    ...Object.entries(definition.server).map(([name, value]) => ({ path: ['server', name], value })),
    ...definition.apis.map((api, at) => ({ path: ['apis', at, 'base_url'], value: api.base_url })),
    { path: ['identity', 'endpoint'], value: definition.identity?.endpoint },
    { path: ['registration', 'page'], value: definition.registration.page },
    { path: ['dialect', 'revocation', 'address'], value: definition.dialect.revocation?.address },
    { path: ['dialect', 'resource'], value: definition.dialect.resource },
  ];
  return all.filter((one): one is { path: (string | number)[]; value: string } => typeof one.value === 'string' && /^[a-z]+:\/\//.test(one.value));
}
