import type { Database } from '../store/database.ts';

/** What tells this database server from a copy of it: the cluster's id, or host and data folder. */
export async function databaseFingerprint(database: Database): Promise<string> {
  const [cluster] = await database.select<{ uuid: string | null }>(
    "SELECT VARIABLE_VALUE AS uuid FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'wsrep_cluster_state_uuid' AND VARIABLE_VALUE RLIKE '[1-9a-f]'",
  );
  if (cluster?.uuid) return cluster.uuid;
  const [place] = await database.select<{ fingerprint: string }>("SELECT SHA2(CONCAT(@@hostname, ':', @@datadir), 256) AS fingerprint");
  return place?.fingerprint ?? '';
}
