import { type Bind, type Database, idBytes } from './database.ts';

/** What an account that is limited to labels may name: which objects concern connections of these labels only. */
export interface LimitStore {
  /** Of these connections or people of shared ones, the names that carry one of the labels. */
  connectionsWithin(names: readonly string[], labels: readonly string[]): Promise<Set<string>>;
  isJobWithin(job: string, labels: readonly string[]): Promise<boolean>;
  isRunWithin(runId: string, labels: readonly string[]): Promise<boolean>;
  isConsentWithin(consentId: string, labels: readonly string[]): Promise<boolean>;
  isInvitationWithin(invitationId: string, labels: readonly string[]): Promise<boolean>;
  /** Of these callers those all of whose permissions are within, and that have any. */
  callersWithin(names: readonly string[], labels: readonly string[]): Promise<Set<string>>;
}

/** Ids of connections with one of the labels; a person's row is within where its shared connection is. */
const within = (labels: readonly string[], bind: Bind[]): string =>
  `SELECT l.connection_id FROM connection_labels l WHERE l.label IN (${labels.map((label) => `$${bind.push(label)}`).join(', ')})`;

export function limitStore(database: Database): LimitStore {
  const any = async (sql: string, bind: Bind[]): Promise<boolean> => (await database.select(`${sql} LIMIT 1`, bind)).length > 0;
  const names = (list: readonly string[], bind: Bind[]): string => list.map((name) => `$${bind.push(name)}`).join(', ');
  return {
    async connectionsWithin(wanted, labels) {
      if (wanted.length === 0) return new Set();
      const bind: Bind[] = [];
      const rows = await database.select<{ name: string }>(
        `SELECT k.name FROM connections k WHERE k.name IN (${names(wanted, bind)}) AND COALESCE(k.person_of, k.id) IN (${within(labels, bind)})`,
        bind,
      );
      return new Set(rows.map((row) => row.name));
    },
    isJobWithin(job, labels) {
      const bind: Bind[] = [job];
      return any(`SELECT 1 AS yes FROM jobs j WHERE j.name = $1 AND j.connection_id IN (${within(labels, bind)})`, bind);
    },
    isRunWithin(runId, labels) {
      const bind: Bind[] = [idBytes(runId)];
      return any(`SELECT 1 AS yes FROM runs r WHERE r.id = $1 AND r.connection_id IN (${within(labels, bind)})`, bind);
    },
    isConsentWithin(consentId, labels) {
      const bind: Bind[] = [idBytes(consentId)];
      return any(
        `SELECT 1 AS yes FROM consents c JOIN connections k ON k.id = c.connection_id WHERE c.id = $1 AND COALESCE(k.person_of, k.id) IN (${within(labels, bind)})`,
        bind,
      );
    },
    isInvitationWithin(invitationId, labels) {
      const bind: Bind[] = [idBytes(invitationId)];
      return any(`SELECT 1 AS yes FROM invitations i WHERE i.id = $1 AND i.shared_id IN (${within(labels, bind)})`, bind);
    },
    async callersWithin(wanted, labels) {
      if (wanted.length === 0) return new Set();
      const bind: Bind[] = [];
      const rows = await database.select<{ name: string }>(
        `SELECT c.name FROM callers c JOIN permissions p ON p.caller_id = c.id WHERE c.name IN (${names(wanted, bind)})
         GROUP BY c.id, c.name
         HAVING SUM(CASE WHEN p.label IN (${names(labels, bind)}) OR p.connection_id IN (${within(labels, bind)}) THEN 0 ELSE 1 END) = 0`,
        bind,
      );
      return new Set(rows.map((row) => row.name));
    },
  };
}
