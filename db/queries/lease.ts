import { sql } from 'drizzle-orm';
import { rowsOf, type Database } from '../open.ts';

/*
 * One engine at a time runs what is configured: whoever holds the lease. The database's clock alone decides.
 */

export interface Engine {
  run: string;
  name: string;
}

/** All links: the one share that there is. */
export const ALL_LINKS = '*';

/** Takes the lease when nobody holds it; returns who does. */
export async function takeLease(database: Database, { run, name }: Engine, leaseMs: number): Promise<Engine> {
  const [taken] = await rowsOf<Engine>(
    database,
    sql`insert into lease (share, run, name, since, until)
      values (${ALL_LINKS}, ${run}, ${name}, clock_timestamp(), clock_timestamp() + ${leaseMs}::float8 * interval '1 ms')
      on conflict (share) do update set run = excluded.run, name = excluded.name, since = excluded.since,
        until = excluded.until
      where lease.until < clock_timestamp() or lease.run = excluded.run
      returning run, name`,
  );
  if (taken !== undefined) return taken;
  const [holder] = await rowsOf<Engine>(database, sql`select run, name from lease where share = ${ALL_LINKS}`);
  return holder ?? takeLease(database, { run, name }, leaseMs);
}

/** Keeps the lease; false when another engine has it. */
export async function renewLease(database: Database, run: string, leaseMs: number): Promise<boolean> {
  const rows = await rowsOf(
    database,
    sql`update lease set until = clock_timestamp() + ${leaseMs}::float8 * interval '1 ms' where run = ${run} returning run`,
  );
  return rows.length > 0;
}

/** Gives the lease back: whoever stands by takes it at once. */
export async function releaseLease(database: Database, run: string): Promise<void> {
  await database.execute(sql`update lease set until = clock_timestamp() where run = ${run}`);
}

const STANDBY_KEPT = sql`interval '1 hour'`;

/** Says that this engine is there and waits. */
export async function noteStandby(database: Database, { run, name }: Engine): Promise<void> {
  await database.execute(sql`insert into standby (run, name, seen) values (${run}, ${name}, clock_timestamp())
    on conflict (run) do update set seen = excluded.seen`);
}

export async function dropStandby(database: Database, run: string): Promise<void> {
  await database.execute(sql`delete from standby where run = ${run} or seen < clock_timestamp() - ${STANDBY_KEPT}`);
}

/** Names of the engines that stand by, seen within the last while. */
export async function standbys(database: Database, withinMs: number): Promise<string[]> {
  const rows = await rowsOf<{ name: string }>(
    database,
    sql`select name from standby where seen > clock_timestamp() - ${withinMs}::float8 * interval '1 ms' order by name`,
  );
  return rows.map(({ name }) => name);
}
