import { sql, type SQL } from 'drizzle-orm';
import { drizzle, type NodePgDatabase } from 'drizzle-orm/node-postgres';
import { migrate } from 'drizzle-orm/node-postgres/migrator';
import type { Socket } from 'node:net';
import pg from 'pg';
import { upgradeDraft } from './upgrade.ts';
import { putStoredAway } from './upgradesecrets.ts';

export type Connection = pg.PoolClient;
export type Database = NodePgDatabase & { $client: pg.Pool };

export interface DatabaseOptions {
  connections: number;
  name: string;
  /** Do not wait for the disk at a commit: for what may be lost with the machine and is written anew anyway. */
  relaxed?: boolean;
  /**
   * A connection that has said nothing for so long although it was asked something is closed, milliseconds: its query
   * fails, and the next one goes over another connection.
   */
  deadlineMs?: number;
}

const DEADLINE_MS = 15_000;
const CONNECT_TIMEOUT_MS = 5000;
/** The server ends a transaction whose client says nothing any more: what it locked is free again. */
const IDLE_TRANSACTION_MS = 30_000;

/** Opens a pool of connections; they are made when first needed and made again when lost. */
export function openDatabase(url: string, options: DatabaseOptions): Database {
  const deadlineMs = options.deadlineMs ?? DEADLINE_MS;
  const pool = new pg.Pool({
    ...clientConfig(url, options.name, deadlineMs, options.relaxed ?? false),
    max: options.connections,
    idleTimeoutMillis: 60_000,
  });
  const live = new Set<number>();
  LIVE.set(pool, live);
  pool.on('connect', (client) => {
    guard(client, deadlineMs);
    live.add(pidOf(client));
  });
  pool.on('remove', (client) => live.delete(pidOf(client)));
  // A connection that breaks while nobody uses it: the next query takes another one.
  pool.on('error', () => {});
  return drizzle(pool) as Database;
}

/** Server processes behind a pool's connections. */
const LIVE = new WeakMap<pg.Pool, Set<number>>();
const pidOf = (client: pg.ClientBase): number => (client as unknown as { processID: number }).processID;

/**
 * Ends server processes that hold a lock on a table although no connection of this pool belongs to them any more: what
 * is left of a connection that broke, or of another engine.
 */
export async function endForeignHolders(database: Database, table: string): Promise<void> {
  const live = [...(LIVE.get(database.$client) ?? [])];
  await database.$client.query(
    `select pg_terminate_backend(pid) from (select distinct pid from pg_locks
      where relation = $1::regclass and granted and mode in ('RowExclusiveLock', 'ShareRowExclusiveLock')
        and not (pid = any($2::int[]))) as holders`,
    [table, live],
  );
}

function clientConfig(url: string, name: string, deadlineMs: number, relaxed: boolean): pg.ClientConfig {
  const settings = {
    TimeZone: 'UTC',
    statement_timeout: deadlineMs,
    idle_in_transaction_session_timeout: IDLE_TRANSACTION_MS,
    tcp_keepalives_idle: 5,
    tcp_keepalives_interval: 2,
    tcp_keepalives_count: 3,
    ...(relaxed ? { synchronous_commit: 'off' } : {}),
  };
  return {
    connectionString: url,
    application_name: name,
    connectionTimeoutMillis: CONNECT_TIMEOUT_MS,
    keepAlive: true,
    options: Object.entries(settings)
      .map(([key, value]) => `-c ${key}=${value}`)
      .join(' '),
  };
}

/** Keeps a broken connection from being more than a failed query, and ends one that answers nothing any more. */
function guard(client: pg.ClientBase, deadlineMs: number): void {
  client.on('error', () => {});
  const { stream } = (client as unknown as { connection: { stream: Socket } }).connection;
  stream.setNoDelay(true);
  let timer: NodeJS.Timeout | null = null;
  const write = stream.write.bind(stream) as (...args: unknown[]) => boolean;
  stream.write = ((...args: unknown[]) => {
    // The server ends a long statement by itself a little earlier, and says why.
    timer ??= setTimeout(
      () => stream.destroy(new Error(`the database did not answer within ${deadlineMs + GRACE_MS} ms`)),
      deadlineMs + GRACE_MS,
    );
    return write(...args);
  }) as typeof stream.write;
  const rest = (): void => {
    if (timer !== null) clearTimeout(timer);
    timer = null;
  };
  stream.on('data', rest);
  stream.on('close', rest);
}

const GRACE_MS = 1000;

export async function closeDatabase({ $client }: Database, withinMs = 2000): Promise<void> {
  await Promise.race([$client.end(), new Promise((resolve) => setTimeout(resolve, withinMs).unref())]);
}

/** A query's rows. Lists go in as one value by `list`: a list of parameters ends at 65 534. */
export async function rowsOf<Row>(database: Pick<Database, 'execute'>, query: SQL): Promise<Row[]> {
  const { rows } = await database.execute(query);
  return rows as Row[];
}

export const list = (values: readonly unknown[]): SQL => sql`${sql.param(values)}`;

/** Texts without line feeds (codes, JSON) as `text[]`: quoted each by itself, long ones cost more than all else. */
export const lines = (values: readonly string[]): SQL => sql`string_to_array(${values.join('\n')}, E'\\n')`;

/** Numbers as one value of type `int4[]`; null stands for null. */
export const integers = (values: readonly (number | null)[]): Buffer =>
  binaryArray(INT4, values, 4, (view, at, value) => view.setInt32(at, value));

/** Numbers as one value of type `float8[]`. */
export const doubles = (values: readonly (number | null)[]): Buffer =>
  binaryArray(FLOAT8, values, 8, (view, at, value) => view.setFloat64(at, value));

/** Object ids of the types (PostgreSQL 15, pg_type.dat). */
const INT4 = 23;
const FLOAT8 = 701;

/**
 * A one-dimensional array in the database's binary form, which the driver sends as it is: written as text, the numbers
 * of thousands of readings cost more than all else about them. As `array_recv` reads it (PostgreSQL 15, arrayfuncs.c;
 * the documentation leaves the form of arrays out):
 *
 *   dimensions    4   1; an empty array has none, and ends after the type
 *   has nulls     4
 *   type          4
 *   elements      4
 *   lower bound   4   1
 *   …                 each: its length in octets (4; -1: null), then the octets
 */
function binaryArray(
  type: number,
  values: readonly (number | null)[],
  octets: number,
  write: (view: DataView, at: number, value: number) => void,
): Buffer {
  const nulls = values.reduce<number>((sum, value) => sum + (value === null ? 1 : 0), 0);
  const head = values.length === 0 ? 12 : 20;
  const out = Buffer.alloc(head + values.length * (4 + octets) - nulls * octets);
  const view = new DataView(out.buffer, out.byteOffset, out.byteLength);
  view.setInt32(0, values.length === 0 ? 0 : 1);
  view.setInt32(4, nulls > 0 ? 1 : 0);
  view.setInt32(8, type);
  if (values.length === 0) return out;
  view.setInt32(12, values.length);
  view.setInt32(16, 1);
  let at = head;
  for (const value of values) {
    view.setInt32(at, value === null ? -1 : octets);
    at += 4;
    if (value === null) continue;
    write(view, at, value);
    at += octets;
  }
  return out;
}

export const notify = async (database: Database, channel: string, payload: string): Promise<void> => {
  await database.execute(sql`select pg_notify(${channel}, ${payload})`);
};

type Work<Result> = (client: Connection, first: pg.QueryResult[]) => Promise<Result>;

/** One transaction on a connection of its own: committed when `work` ends well. A connection that broke is given up. */
export async function transact<Result>(database: Database, work: Work<Result>): Promise<Result>;
/** With statements that are sent together with its beginning; the work gets their results. */
export async function transact<Result>(
  database: Database,
  first: (client: Connection) => string,
  work: Work<Result>,
): Promise<Result>;
export async function transact<Result>(
  database: Database,
  ...args: [Work<Result>] | [(client: Connection) => string, Work<Result>]
): Promise<Result> {
  const [first, work] = args.length === 1 ? [() => '', args[0]] : args;
  const client = await database.$client.connect();
  try {
    const begun = (await client.query(`begin; ${first(client)}`)) as pg.QueryResult | pg.QueryResult[];
    const result = await work(client, Array.isArray(begun) ? begun : [begun]);
    await client.query('commit');
    client.release();
    return result;
  } catch (error) {
    const broken = await client.query('rollback').then(
      () => false,
      () => true,
    );
    client.release(broken);
    throw error;
  }
}

const RELISTEN_FIRST_MS = 200;
const RELISTEN_MAX_MS = 5000;
/** How often the connection that listens is asked whether it is there. */
const LISTEN_CHECK_MS = 5000;

/**
 * Listens on channels over a connection of its own, which is made again whenever it is lost; resolves once it stands
 * for the first time. Returns how to end it.
 */
export async function listen(
  url: string,
  name: string,
  channels: Readonly<Record<string, (payload: string) => void>>,
  { lost = () => {} }: { lost?: () => void } = {},
): Promise<() => Promise<void>> {
  let current: pg.Client | null = null;
  let ended = false;
  let pause = RELISTEN_FIRST_MS;

  async function connect(): Promise<void> {
    const client = new pg.Client(clientConfig(url, name, LISTEN_CHECK_MS, false));
    let check: NodeJS.Timeout | null = null;
    const gone = (): void => {
      if (check !== null) clearInterval(check);
      check = null;
      if (current !== client) return;
      current = null;
      if (ended) return;
      lost();
      void again();
    };
    client.on('error', gone);
    client.on('end', gone);
    client.on('notification', ({ channel, payload }) => channels[channel]?.(payload ?? ''));
    await client.connect();
    guard(client, LISTEN_CHECK_MS);
    for (const channel of Object.keys(channels)) await client.query(`listen ${client.escapeIdentifier(channel)}`);
    current = client;
    pause = RELISTEN_FIRST_MS;
    check = setInterval(() => void client.query('select 1').catch(() => {}), LISTEN_CHECK_MS);
  }

  async function again(): Promise<void> {
    while (!ended) {
      await new Promise((resolve) => setTimeout(resolve, pause));
      pause = Math.min(RELISTEN_MAX_MS, pause * 2);
      if (ended) return;
      try {
        await connect();
        return;
      } catch {
        // Tried again.
      }
    }
  }

  try {
    await connect();
  } catch {
    await again();
  }
  return async () => {
    ended = true;
    await current?.end().catch(() => {});
  };
}

/** Whether this role makes and changes the tables: they are its own, or there are none yet. */
export async function mayMigrate(database: Database): Promise<boolean> {
  const { rows } = await database.$client.query<{ own: boolean }>(
    `select tableowner = current_user as own from pg_tables where schemaname = 'public' and tablename = 'revision'`,
  );
  return rows.every(({ own }) => own);
}

/**
 * Brings the schema up to date. Several processes may call this at once: the first one does it. Tells how many secrets
 * still stand readable in documents, because this process has no key to seal them with.
 */
export async function migrateDatabase(database: Database, folder: string): Promise<{ readable: number }> {
  const MIGRATION_LOCK = 4600;
  const client = await database.$client.connect();
  try {
    await client.query('set statement_timeout = 0');
    await client.query('select pg_advisory_lock($1)', [MIGRATION_LOCK]);
    await migrate(drizzle(client), { migrationsFolder: folder });
    await upgradeDraft(client);
    return { readable: await putStoredAway(client) };
  } finally {
    // The lock goes with the connection.
    client.release(true);
  }
}
