import { startPrivateMariadb } from '../src/service/database/private-mariadb.ts';
import { newDatabaseOn } from '../test/support/new-database-on.ts';
import { newFolder } from '../test/support/service.ts';
import * as h from './handouts.ts';
const server = await startPrivateMariadb({ folder: newFolder() });
const name = process.argv[2] as keyof typeof h;
console.log(await h[name](await newDatabaseOn(server.url)));
await server.stop();
process.exit(0);
