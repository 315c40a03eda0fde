import { CAUSES, TIME_SOURCES, type Reading } from '@halvix/core/point';
import { and, asc, desc, eq, gte, lt, sql } from 'drizzle-orm';
import { pipeline } from 'node:stream/promises';
import { Readable } from 'node:stream';
import type { Database } from '../open.ts';
import { ingestMark, reading, replayGuard } from '../schema/index.ts';

export interface StoredReading extends Reading {
  pointId: number;
}

/** PostgreSQL counts microseconds from 2000-01-01. */
const EPOCH_2000_MS = 946_684_800_000;
const COLUMNS = 8;
const ROW_OCTETS = 2 + COLUMNS * 4 + 4 + 8 + 8 + 8 + 8 + 4 + 2 + 2;
const SIGNATURE = Buffer.from('PGCOPY\n\xff\r\n\0', 'latin1');

/**
 * Rows for `COPY reading … WITH (FORMAT binary)` (PostgreSQL 15 documentation, COPY, "Binary Format"): signature,
 * flags, header extension, then each row as its number of fields and each field with its length, big-endian; -1 ends.
 */
export function encodeReadings(readings: readonly StoredReading[]): Buffer {
  const out = Buffer.allocUnsafe(SIGNATURE.length + 8 + readings.length * ROW_OCTETS + 2);
  let at = SIGNATURE.copy(out);
  at = out.writeInt32BE(0, at);
  at = out.writeInt32BE(0, at);
  const instant = (ms: number): void => {
    at = out.writeInt32BE(8, at);
    at = out.writeBigInt64BE(BigInt(Math.round((ms - EPOCH_2000_MS) * 1000)), at);
  };
  const float = (value: number): void => {
    at = out.writeInt32BE(8, at);
    at = out.writeDoubleBE(value, at);
  };
  const integer = (value: number): void => {
    at = out.writeInt32BE(4, at);
    at = out.writeInt32BE(value, at);
  };
  const small = (value: number): void => {
    at = out.writeInt32BE(2, at);
    at = out.writeInt16BE(value, at);
  };
  for (const row of readings) {
    at = out.writeInt16BE(COLUMNS, at);
    integer(row.pointId);
    instant(row.time);
    instant(row.received);
    float(row.raw);
    float(row.value);
    integer(row.quality);
    small(TIME_SOURCES.indexOf(row.timeSource));
    small(CAUSES.indexOf(row.cause));
  }
  out.writeInt16BE(-1, at);
  return out;
}

export interface Batch {
  engine: string;
  /** Different for every batch of every run of that engine. */
  id: string;
  readings: readonly StoredReading[];
  /** Keys to remember for each device; see `ReplayGuard`. */
  guards: ReadonlyMap<string, readonly string[]>;
}

/** Stores readings and the replay guards of their devices in one transaction: all of it is kept, or nothing is. */
export async function storeBatch(database: Database, { engine, id, readings, guards }: Batch): Promise<void> {
  await database.$client.begin(async (tx) => {
    if (readings.length > 0) {
      const copy = await tx`
        copy reading (point_id, time, received, raw, value, quality, time_source, cause)
        from stdin with (format binary)`.writable();
      await pipeline(Readable.from([encodeReadings(readings)]), copy);
    }
    if (guards.size > 0) {
      const devices = [...guards.keys()];
      const keys = devices.map((device) => JSON.stringify(guards.get(device)));
      await tx`
        insert into replay_guard (device, keys)
        select device, array(select jsonb_array_elements_text(keys::jsonb))
        from unnest(${devices}::text[], ${keys}::text[]) as given (device, keys)
        on conflict (device) do update set keys = excluded.keys`;
    }
    await tx`
      insert into ingest_mark (engine, batch) values (${engine}, ${id})
      on conflict (engine) do update set batch = excluded.batch`;
  });
}

/** Whether this was the last batch that its engine stored: for a commit whose answer was lost. */
export async function batchWasStored(database: Database, engine: string, id: string): Promise<boolean> {
  const [row] = await database.select().from(ingestMark).where(eq(ingestMark.engine, engine));
  return row?.batch === id;
}

export async function replayGuards(database: Database): Promise<Map<string, string[]>> {
  return new Map((await database.select().from(replayGuard)).map((row) => [row.device, row.keys]));
}

/** Makes the partitions of today and the days after it. A day that cannot have one stays with the other days. */
export async function makePartitions(database: Database, now: number, days: number): Promise<string[]> {
  const problems: string[] = [];
  for (let day = -1; day < days; day++) {
    const from = new Date(now + day * 86_400_000).toISOString().slice(0, 10);
    const to = new Date(now + (day + 1) * 86_400_000).toISOString().slice(0, 10);
    const name = `reading_${from.replaceAll('-', '_')}`;
    try {
      await database.execute(
        sql.raw(
          `create table if not exists ${name} partition of reading for values from ('${from} 00:00+00') to ('${to} 00:00+00')`,
        ),
      );
    } catch (error) {
      problems.push(`${name}: ${error instanceof Error ? String(error.cause ?? error.message) : String(error)}`);
    }
  }
  return problems;
}

const fromRow = (row: typeof reading.$inferSelect): StoredReading => ({
  pointId: row.pointId,
  raw: row.raw,
  value: row.value,
  quality: row.quality,
  time: row.time.getTime(),
  timeSource: TIME_SOURCES[row.timeSource] ?? 'receipt',
  received: row.received.getTime(),
  cause: CAUSES[row.cause] ?? 'static',
});

/** The latest readings of a point before an instant, newest first. */
export async function readingsBefore(
  database: Database,
  pointId: number,
  before: number,
  limit: number,
): Promise<StoredReading[]> {
  const rows = await database
    .select()
    .from(reading)
    .where(and(eq(reading.pointId, pointId), lt(reading.time, new Date(before))))
    .orderBy(desc(reading.time), desc(reading.received))
    .limit(limit);
  return rows.map(fromRow);
}

export interface Bucket {
  /** Start of the bucket. */
  time: number;
  count: number;
  minimum: number;
  maximum: number;
  first: number;
  last: number;
  /** All reasons that any reading in it had. */
  quality: number;
}

export type History =
  | { form: 'readings'; readings: StoredReading[] }
  | { form: 'buckets'; widthMs: number; buckets: Bucket[] };

/** A point's readings in [from, to), oldest first; as buckets when there are more than `limit`. */
export async function historyOf(
  database: Database,
  pointId: number,
  from: number,
  to: number,
  limit: number,
): Promise<History> {
  const within = and(eq(reading.pointId, pointId), gte(reading.time, new Date(from)), lt(reading.time, new Date(to)));
  const rows = await database
    .select()
    .from(reading)
    .where(within)
    .orderBy(asc(reading.time), asc(reading.received))
    .limit(limit + 1);
  if (rows.length <= limit) return { form: 'readings', readings: rows.map(fromRow) };
  const widthMs = Math.max(1, Math.ceil((to - from) / (limit / 4)));
  const client = database.$client;
  const buckets = await client<
    { bucket: string; count: string; minimum: number; maximum: number; first: number; last: number; quality: number }[]
  >`
    select floor((extract(epoch from time) * 1000 - ${from}) / ${widthMs}) as bucket, count(*) as count,
      min(value) as minimum, max(value) as maximum,
      (array_agg(value order by time))[1] as first, (array_agg(value order by time desc))[1] as last,
      bit_or(quality) as quality
    from reading
    where point_id = ${pointId} and time >= ${new Date(from).toISOString()} and time < ${new Date(to).toISOString()}
    group by bucket order by bucket`;
  return {
    form: 'buckets',
    widthMs,
    buckets: buckets.map((row) => ({ ...row, time: from + Number(row.bucket) * widthMs, count: Number(row.count) })),
  };
}
