import { main } from './main.ts';

/** The program that the service starts to play a rehearsal. */
await main();
process.exit();
