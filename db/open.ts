import { drizzle, type PostgresJsDatabase } from 'drizzle-orm/postgres-js';
import { migrate } from 'drizzle-orm/postgres-js/migrator';
import { connect, type Socket } from 'node:net';
import postgres from 'postgres';

export type Sql = postgres.Sql;
export type Database = PostgresJsDatabase & { $client: Sql };

/**
 * A socket without Nagle's delay, which the driver leaves on: the end of a COPY and the commit after it would each
 * wait some 40 ms for the server's delayed acknowledgement. It may still be connecting; what is written waits.
 */
const promptSocket = ({ host, port }: { host: string[]; port: number[] }): Socket =>
  connect({ host: host[0], port: port[0], noDelay: true });

export interface DatabaseOptions {
  connections: number;
  name: string;
  /** Do not wait for the disk at a commit: for what may be lost with the machine and is written anew anyway. */
  relaxed?: boolean;
}

/** Opens a pool of connections; they are made when first needed and made again when lost. */
export function openDatabase(url: string, options: DatabaseOptions): Database {
  const client = postgres(url, {
    // The driver takes this option, but its types do not name it.
    ...({ socket: promptSocket } as object),
    max: options.connections,
    connection: {
      application_name: options.name,
      TimeZone: 'UTC',
      ...(options.relaxed ? { synchronous_commit: 'off' } : {}),
    },
    connect_timeout: 5,
    // Seconds before each new try after a lost connection.
    backoff: (tries) => Math.min(5, 0.2 * 2 ** tries),
    onnotice: () => {},
  });
  return drizzle(client) as Database;
}

/** Brings the schema up to date. Several processes may call this at once: the first one does it. */
export async function migrateDatabase(database: Database, folder: string): Promise<void> {
  const MIGRATION_LOCK = 4600;
  const connection = await database.$client.reserve();
  try {
    await connection`select pg_advisory_lock(${MIGRATION_LOCK})`;
    await migrate(database, { migrationsFolder: folder });
  } finally {
    await connection`select pg_advisory_unlock(${MIGRATION_LOCK})`.catch(() => {});
    connection.release();
  }
}
