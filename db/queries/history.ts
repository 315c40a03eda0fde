import { CAUSES, TIME_SOURCES, type Reading } from '@halvix/core/point';
import { and, asc, desc, eq, gte, lt, sql } from 'drizzle-orm';
import type { Writable } from 'node:stream';
import type { TransactionSql } from 'postgres';
import type { Database } from '../open.ts';
import { ingestMark, reading, replayGuard } from '../schema/index.ts';

export interface StoredReading extends Reading {
  pointId: number;
}

/** PostgreSQL counts microseconds from 2000-01-01. */
const EPOCH_2000_MS = 946_684_800_000;
const TWO_TO_32 = 0x1_0000_0000;
/** Octets of each column: point, time, received, raw, value, quality, time source, cause. */
const COLUMNS = [4, 8, 8, 8, 8, 4, 2, 2];
const ROW = emptyRow();
const ROW_OCTETS = ROW.length;
const SIGNATURE = Buffer.from('PGCOPY\n\xff\r\n\0', 'latin1');

/** A row with its number of fields and their lengths, the values still zero. */
function emptyRow(): Uint8Array {
  const row = new DataView(new ArrayBuffer(2 + COLUMNS.reduce((sum, octets) => sum + 4 + octets, 0)));
  row.setInt16(0, COLUMNS.length);
  let at = 2;
  for (const octets of COLUMNS) {
    row.setInt32(at, octets);
    at += 4 + octets;
  }
  return new Uint8Array(row.buffer);
}

/**
 * Rows for `COPY reading … WITH (FORMAT binary)` (PostgreSQL 15 documentation, COPY, "Binary Format"): signature,
 * flags, header extension, then each row as its number of fields and each field with its length, big-endian; -1 ends.
 */
export function encodeReadings(readings: readonly StoredReading[]): Buffer {
  const head = SIGNATURE.length + 8;
  const out = Buffer.allocUnsafe(head + readings.length * ROW_OCTETS + 2);
  out.fill(0, SIGNATURE.copy(out), head);
  const view = new DataView(out.buffer, out.byteOffset, out.byteLength);
  let at = head;
  for (const row of readings) {
    // Numbers of fields and lengths are the same in each row: only the values are written.
    out.set(ROW, at);
    view.setInt32(at + 6, row.pointId);
    writeInstant(view, at + 14, row.time);
    writeInstant(view, at + 26, row.received);
    view.setFloat64(at + 38, row.raw);
    view.setFloat64(at + 50, row.value);
    view.setInt32(at + 62, row.quality);
    view.setInt16(at + 70, TIME_SOURCES.indexOf(row.timeSource));
    view.setInt16(at + 76, CAUSES.indexOf(row.cause));
    at += ROW_OCTETS;
  }
  view.setInt16(at, -1);
  return out;
}

function writeInstant(view: DataView, at: number, ms: number): void {
  const microseconds = Math.round((ms - EPOCH_2000_MS) * 1000);
  const high = Math.floor(microseconds / TWO_TO_32);
  view.setInt32(at, high);
  view.setUint32(at + 4, microseconds - high * TWO_TO_32);
}

export interface Batch {
  /** Who writes: an engine and one of its lanes, which has one batch under way at a time. */
  writer: string;
  /** Different for every batch of every run of that writer. */
  id: string;
  readings: readonly StoredReading[];
  /** Keys to remember for each device; see `ReplayGuard`. */
  guards: ReadonlyMap<string, readonly number[]>;
}

/**
 * Writes all of a COPY's octets. The driver never finishes the stream of a COPY that the server refuses, so this does
 * not wait for the end: the next statement on the connection does, and fails when the COPY failed.
 */
export async function copyIn(copy: Writable, octets: Buffer): Promise<void> {
  await new Promise<void>((resolve, reject) => {
    copy.on('error', reject);
    copy.on('close', () => reject(new Error('the connection was lost during COPY')));
    copy.write(octets, (error) => (error ? reject(error) : resolve()));
  });
  copy.end();
  // The end of the COPY is on its way before the next statement is.
  await new Promise((resolve) => setImmediate(resolve));
}

/** Stores readings and the replay guards of their devices in one transaction: all of it is kept, or nothing is. */
export async function storeBatch(database: Database, { writer, id, readings, guards }: Batch): Promise<void> {
  await database.$client.begin(async (tx) => {
    const texts = readings.filter(({ text }) => text !== undefined);
    const numbers = texts.length > 0 ? readings.filter(({ text }) => text === undefined) : readings;
    if (numbers.length > 0) {
      const copy = await tx`
        copy reading (point_id, time, received, raw, value, quality, time_source, cause)
        from stdin with (format binary)`.writable();
      await copyIn(copy, encodeReadings(numbers));
    }
    if (texts.length > 0) await storeTexts(tx, texts);
    // One statement, one round trip; the keys of all devices as one value, from which each row takes its part.
    const devices = [...guards.keys()];
    const keys = [...guards.values()].map(asOctets);
    const lengths = keys.map((of) => of.length);
    let end = 1;
    const starts = lengths.map((length) => (end += length) - length);
    await tx`
      with kept as (
        insert into replay_guard (device, keys)
        select device, substring(${Buffer.concat(keys)}::bytea from start for length)
        from unnest(${devices}::text[], ${starts}::int[], ${lengths}::int[]) as given (device, start, length)
        on conflict (device) do update set keys = excluded.keys)
      insert into ingest_mark (writer, batch) values (${writer}, ${id})
      on conflict (writer) do update set batch = excluded.batch`;
  });
}

/** Readings with a text: few, and not for the binary COPY. */
async function storeTexts(tx: TransactionSql, readings: readonly StoredReading[]): Promise<void> {
  const column = <Value>(pick: (row: StoredReading) => Value): Value[] => readings.map(pick);
  await tx`
    insert into reading (point_id, time, received, raw, value, text, quality, time_source, cause)
    select point_id, to_timestamp(time / 1000), to_timestamp(received / 1000), 0, 0, text, quality, time_source, cause
    from unnest(
      ${column((r) => r.pointId)}::int[], ${column((r) => r.time)}::float8[], ${column((r) => r.received)}::float8[],
      ${column((r) => r.text ?? '')}::text[], ${column((r) => r.quality)}::int[],
      ${column((r) => TIME_SOURCES.indexOf(r.timeSource))}::int[], ${column((r) => CAUSES.indexOf(r.cause))}::int[]
    ) as given (point_id, time, received, text, quality, time_source, cause)`;
}

/** Whether this was the last batch that its writer stored: for a commit whose answer was lost. */
export async function batchWasStored(database: Database, writer: string, id: string): Promise<boolean> {
  const [row] = await database.select().from(ingestMark).where(eq(ingestMark.writer, writer));
  return row?.batch === id;
}

const asOctets = (keys: readonly number[]): Buffer => Buffer.from(Float64Array.from(keys).buffer);

/** The keys to remember of each device. */
export async function replayGuards(database: Database): Promise<Map<string, number[]>> {
  const rows = await database.select().from(replayGuard);
  return new Map(rows.map(({ device, keys }) => [device, [...new Float64Array(Uint8Array.from(keys).buffer)]]));
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
  ...(row.text === null ? {} : { text: row.text }),
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
  { form: 'readings'; readings: StoredReading[] } | { form: 'buckets'; widthMs: number; buckets: Bucket[] };

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
