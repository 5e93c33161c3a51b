/** The face of this room: the database server and its clock. */
export { afterJump } from './after-jump.ts';
export { type DataFolder, openDataFolder } from './data-folder.ts';
export { type DatabaseClock, databaseClock, standingClock } from './database-clock.ts';
export { endPrivateMariadb, freePort, type PrivateMariadb, startPrivateMariadb } from './private-mariadb.ts';
