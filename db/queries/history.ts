import { CAUSES, TIME_SOURCES, type Reading } from '@halvix/core/point';
import { and, asc, desc, eq, gte, lt, sql } from 'drizzle-orm';
import { from as copyFrom } from 'pg-copy-streams';
import { endForeignHolders, integers, list, rowsOf, transact, type Connection, type Database } from '../open.ts';
import { ALL_LINKS } from './lease.ts';
import { ingestMark, reading, replayGuard } from '../schema/index.ts';
import { storeOwed, type OwedEvent } from './owed.ts';

export interface StoredReading extends Reading {
  pointId: number;
}

/** PostgreSQL counts microseconds from 2000-01-01. */
const EPOCH_2000_MS = 946_684_800_000;
const TWO_TO_32 = 0x1_0000_0000;
/** Octets of each column: point, time, received, raw, value, quality, time source, cause; then the text, or none. */
const COLUMNS = [4, 8, 8, 8, 8, 4, 2, 2];
const ROW = emptyRow();
const ROW_OCTETS = ROW.length;
const SIGNATURE = Buffer.from('PGCOPY\n\xff\r\n\0', 'latin1');
const COPY = `copy reading (point_id, time, received, raw, value, quality, time_source, cause, text)
  from stdin with (format binary)`;

/** A row with its number of fields and their lengths, the values still zero; without a text. */
function emptyRow(): Uint8Array {
  const row = new DataView(new ArrayBuffer(2 + COLUMNS.reduce((sum, octets) => sum + 4 + octets, 0) + 4));
  row.setInt16(0, COLUMNS.length + 1);
  let at = 2;
  for (const octets of COLUMNS) {
    row.setInt32(at, octets);
    at += 4 + octets;
  }
  row.setInt32(at, -1);
  return new Uint8Array(row.buffer);
}

/**
 * Rows for `COPY reading … WITH (FORMAT binary)` (PostgreSQL 15 documentation, COPY, "Binary Format"): signature,
 * flags, header extension, then each row as its number of fields and each field with its length (-1: null),
 * big-endian; -1 ends.
 */
export function encodeReadings(readings: readonly StoredReading[]): Buffer {
  const head = SIGNATURE.length + 8;
  const texts = readings.reduce((sum, { text }) => sum + (text === undefined ? 0 : Buffer.byteLength(text)), 0);
  const out = Buffer.allocUnsafe(head + readings.length * ROW_OCTETS + texts + 2);
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
    if (row.text === undefined) continue;
    const octets = out.write(row.text, at);
    view.setInt32(at - 4, octets);
    at += octets;
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
  /** One of the lanes in which readings are written; each has one batch under way at a time. */
  writer: string;
  /** The batch that this writer stored before: the mark that fences (see `storeBatch`). */
  previous: string;
  /** Different for every batch of every run of that writer. */
  id: string;
  readings: readonly StoredReading[];
  /** What the session of each device has to have kept with them. */
  keeps: ReadonlyMap<string, Uint8Array>;
  /** On which link a device is; absent, empty: on none. */
  linkOf?: (device: string) => string;
  /** What outbounds owe because of them. */
  owed: readonly OwedEvent[];
}

/** `storedBefore`: an earlier try went through; `fenced`: another engine writes now. */
export type BatchOutcome = 'stored' | 'storedBefore' | 'fenced';

/** The database says that the readings themselves cannot be stored. */
export class RefusedReadings extends Error {
  constructor(
    readonly code: string,
    cause: Error,
  ) {
    super(cause.message, { cause });
  }
}

/**
 * Stores readings, what their devices' sessions keep and what outbounds owe because of them in one transaction: all of
 * it, or nothing.
 *
 * The mark fences: it goes from the previous batch to this one first of all, and stays locked until the transaction
 * ends. So a second try waits for a first one whose end nobody heard of, and finds out; and a writer whose place
 * another engine took (`takeWriters`) stores nothing more.
 */
export async function storeBatch(database: Database, batch: Batch): Promise<BatchOutcome> {
  const { writer, previous, id, readings, keeps, owed } = batch;
  try {
    const moveMark = (client: Connection): string => {
      const [to, of, from] = [id, writer, previous].map((text) => client.escapeLiteral(text));
      // With the beginning of the transaction: one round trip.
      return `set local lock_timeout = ${LOCK_WAIT_MS}; update ingest_mark set batch = ${to} where share = '${ALL_LINKS}' and writer = ${of} and batch = ${from}`;
    };
    return await transact<BatchOutcome>(database, moveMark, async (client, moved) => {
      if (moved.at(-1)?.rowCount === 0) throw new Unmoved();
      if (readings.length > 0) await copyIn(client, COPY, encodeReadings(readings));
      const late = lateHours(readings);
      if (late.length > 0) await client.query(MARK_LATE, [late]);
      if (keeps.size > 0) await storeKeeps(client, keeps, batch.linkOf ?? (() => ''));
      if (owed.length > 0) await storeOwed(client, owed);
      return 'stored';
    });
  } catch (error) {
    if (isLocked(error)) await endForeignHolders(database, 'ingest_mark');
    if (!(error instanceof Unmoved)) throw error;
    const [row] = await database
      .select()
      .from(ingestMark)
      .where(and(eq(ingestMark.share, ALL_LINKS), eq(ingestMark.writer, writer)));
    return row?.batch === id ? 'storedBefore' : 'fenced';
  }
}

/**
 * Hours whose statistics have to be made anew. One that is marked already is only shared, so that no writer waits for
 * another; whoever makes its statistics waits for all of them.
 */
const MARK_LATE = `
  with marked as (select hour from history_hour where hour = any($1::timestamptz[]) and compacted is null for share)
  insert into history_hour (hour, compacted)
  select late, null from unnest($1::timestamptz[]) as late where late not in (select hour from marked)
  on conflict (hour) do update set compacted = null`;

const HOUR_MS = 3_600_000;
/** Readings of hours that may have their statistics already: of more than so long before they came. */
const LATE_MS = 10 * 60_000;
/** Beyond so many hours in one batch, the oldest wait for the next look at everything. */
const MAX_LATE_HOURS = 2000;

function lateHours(readings: readonly StoredReading[]): string[] {
  const hours = new Set<number>();
  for (const { time, received } of readings)
    if (received - time > LATE_MS && hours.size < MAX_LATE_HOURS) hours.add(Math.floor(time / HOUR_MS));
  return [...hours].sort((a, b) => a - b).map((hour) => new Date(hour * HOUR_MS).toISOString());
}

/** In the place of no link. */
const NO_LINK = '-';

/** All of them as one value, from which each row takes its part: a list of values would be sent as text. */
async function storeKeeps(
  client: Connection,
  keeps: ReadonlyMap<string, Uint8Array>,
  linkOf: (device: string) => string,
): Promise<void> {
  const octets = [...keeps.values()];
  let end = 1;
  const starts = octets.map(({ length }) => (end += length) - length);
  await client.query(
    `insert into replay_guard (device, keys, link)
     select device, substring($1::bytea from start for length), coalesce(nullif(link, '${NO_LINK}'), '')
     from unnest(string_to_array($2, E'\\n'), $3::int[], $4::int[], string_to_array($5, E'\\n')) as given (device, start, length, link)
     on conflict (device) do update set keys = excluded.keys, link = excluded.link`,
    [
      Buffer.concat(octets),
      [...keeps.keys()].join('\n'),
      integers(starts),
      integers(octets.map(({ length }) => length)),
      // Empty ones would be none.
      [...keeps.keys()].map((device) => linkOf(device) || NO_LINK).join('\n'),
    ],
  );
}

/** How long a mark may be held by what is left of a transaction before that is ended. */
const LOCK_WAIT_MS = 2000;
/** SQLSTATE 55P03: lock not available. */
const isLocked = (error: unknown): boolean => error instanceof Error && 'code' in error && error.code === '55P03';

/** The mark is not where it was expected. */
class Unmoved extends Error {}

/** Classes 22 and 23 of SQLSTATE: data exception, integrity constraint violation. */
const SAYS_BAD_DATA = /^2[23]/;

/** Readies a bare COPY of readings, for comparison. */
export function copyReadings(database: Database, readings: readonly StoredReading[]): () => Promise<void> {
  const octets = encodeReadings(readings);
  return () => transact(database, (client) => copyIn(client, COPY, octets));
}

/** Copies octets in; what the server itself says of them as data is `RefusedReadings`. */
export async function copyIn(client: Connection, statement: string, octets: Buffer): Promise<void> {
  const stream = client.query(copyFrom(statement));
  try {
    await new Promise<void>((resolve, reject) => {
      stream.on('error', reject);
      stream.on('finish', resolve);
      stream.end(octets);
    });
  } catch (error) {
    const code = error instanceof Error && 'code' in error ? String(error.code) : '';
    throw error instanceof Error && SAYS_BAD_DATA.test(code) ? new RefusedReadings(code, error) : error;
  }
}

/** What the sessions of some devices have kept. */
export async function keptOf(database: Database, devices: readonly string[]): Promise<Map<string, Uint8Array>> {
  if (devices.length === 0) return new Map();
  const rows = await database
    .select()
    .from(replayGuard)
    .where(sql`${replayGuard.device} = any(${list(devices)}::text[])`);
  return new Map(rows.map(({ device, keys }) => [device, new Uint8Array(keys)]));
}

/** What whoever takes the writers' place finds. */
export interface TakenOver {
  /** What the sessions of all devices have kept. */
  keeps: Map<string, Uint8Array>;
  /** The last batch that each writer stored. */
  marks: Map<string, string>;
}

/**
 * Takes the place of whoever wrote before: waits for transactions that are still open and moves all marks. From then on
 * nobody else stores readings.
 */
export async function takeWriters(database: Database, writers: readonly string[], mark: string): Promise<TakenOver> {
  const take = async (client: Connection): Promise<TakenOver> => {
    await client.query(`set local lock_timeout = ${LOCK_WAIT_MS}`);
    await client.query('lock table ingest_mark in share row exclusive mode');
    const before = await client.query<{ writer: string; batch: string }>(
      'delete from ingest_mark where share = $1 returning writer, batch',
      [ALL_LINKS],
    );
    await client.query('insert into ingest_mark (share, writer, batch) select $3, unnest($1::text[]), $2', [
      [...writers],
      mark,
      ALL_LINKS,
    ]);
    const { rows } = await client.query<{ device: string; keys: Buffer }>('select device, keys from replay_guard');
    return {
      keeps: new Map(rows.map(({ device, keys }) => [device, new Uint8Array(keys)])),
      marks: new Map(before.rows.map(({ writer, batch }) => [writer, batch])),
    };
  };
  try {
    return await transact(database, take);
  } catch (error) {
    if (!isLocked(error)) throw error;
    await endForeignHolders(database, 'ingest_mark');
    return transact(database, take);
  }
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

/**
 * Readings of some points after an instant, and not after another, oldest first: about so many, but all of the last instant
 * that there are any of.
 */
export async function readingsBetween(
  database: Database,
  pointIds: readonly number[],
  { after, to, about }: { after: number; to: number; about: number },
): Promise<StoredReading[]> {
  const { rows } = await database.$client.query<{ [Column in keyof typeof reading.$inferSelect]: never }>(
    `select point_id as "pointId", time, received, raw, value, text, quality, time_source as "timeSource", cause
     from reading where point_id = any($1::int[]) and time > to_timestamp($2::float8 / 1000) and time <= to_timestamp($3::float8 / 1000)
     order by time fetch first $4 rows with ties`,
    [integers(pointIds), after, to, about],
  );
  return rows.map((row) => fromRow(row));
}

export interface Bucket {
  /** Start of the bucket. */
  time: number;
  count: number;
  minimum: number;
  maximum: number;
  mean: number;
  first: number;
  last: number;
  /** All reasons that any reading in it had. */
  quality: number;
  /** How long the value was not to be used, milliseconds; null where it is not known. */
  badMs: number | null;
}

export type History =
  { form: 'readings'; readings: StoredReading[] } | { form: 'buckets'; widthMs: number; buckets: Bucket[] };

/** Statistics are asked first when the range is longer than this: a count of readings would take longer. */
const LONG_MS = 6 * HOUR_MS;
const MINUTE_MS = 60_000;
/** Hours whose statistics are not made are read from readings; where they are more than this, everything is. */
const MAX_OPEN_HOURS = 48;

/**
 * A point's readings in [from, to), oldest first; as buckets when there are more than `limit`. Buckets of a minute or
 * more come from statistics, where those are made.
 */
export async function historyOf(
  database: Database,
  pointId: number,
  from: number,
  to: number,
  limit: number,
): Promise<History> {
  if (to - from <= LONG_MS || !(await hasMoreThan(database, pointId, from, to, limit))) {
    const within = and(eq(reading.pointId, pointId), gte(reading.time, new Date(from)), lt(reading.time, new Date(to)));
    const rows = await database
      .select()
      .from(reading)
      .where(within)
      .orderBy(asc(reading.time), asc(reading.received))
      .limit(limit + 1);
    if (rows.length <= limit) return { form: 'readings', readings: rows.map(fromRow) };
  }
  const least = Math.max(1, Math.ceil((to - from) / (limit / 4)));
  const level = least >= HOUR_MS ? HOUR_MS : least >= MINUTE_MS ? MINUTE_MS : null;
  if (level === null) {
    const buckets = await bucketsOfReadings(database, pointId, from, to, from, least);
    return { form: 'buckets', widthMs: least, buckets };
  }
  const widthMs = Math.ceil(least / level) * level;
  const origin = Math.floor(from / widthMs) * widthMs;
  const open = await openHours(database, from, to);
  if (open === null) {
    const buckets = await bucketsOfReadings(database, pointId, from, to, origin, widthMs);
    return { form: 'buckets', widthMs, buckets };
  }
  const parts = await bucketsOfStatistics(database, pointId, { from, to, level, origin, widthMs }, open);
  for (const [begin, end] of runs(open))
    parts.push(
      ...(await bucketsOfReadings(database, pointId, Math.max(begin, from), Math.min(end, to), origin, widthMs)),
    );
  return { form: 'buckets', widthMs, buckets: merged(parts) };
}

/** By what the statistics of the hours say. */
async function hasMoreThan(
  database: Database,
  pointId: number,
  from: number,
  to: number,
  limit: number,
): Promise<boolean> {
  const [row] = await rowsOf<{ count: string | null }>(
    database,
    sql`select sum(count) as count from statistic_hour where point_id = ${pointId}
      and time >= ${instantOf(from)}::timestamptz and time < ${instantOf(to)}::timestamptz`,
  );
  return Number(row?.count ?? 0) > limit;
}

const instantOf = (ms: number): string => new Date(ms).toISOString();

interface BucketRow {
  bucket: string;
  count: string;
  minimum: number;
  maximum: number;
  mean: number;
  first: number;
  last: number;
  quality: number;
  bad: string | null;
}

const asBucket = (row: BucketRow, origin: number, widthMs: number): Bucket => ({
  time: origin + Number(row.bucket) * widthMs,
  count: Number(row.count),
  minimum: row.minimum,
  maximum: row.maximum,
  mean: row.mean,
  first: row.first,
  last: row.last,
  quality: row.quality,
  badMs: row.bad === null ? null : Number(row.bad),
});

async function bucketsOfReadings(
  database: Database,
  pointId: number,
  from: number,
  to: number,
  origin: number,
  widthMs: number,
): Promise<Bucket[]> {
  const rows = await rowsOf<BucketRow>(
    database,
    sql`
    select floor((extract(epoch from time) * 1000 - ${origin}::float8) / ${widthMs}::float8) as bucket,
      count(*) as count, min(value) as minimum, max(value) as maximum, avg(value) as mean,
      (array_agg(value order by time, received))[1] as first,
      (array_agg(value order by time desc, received desc))[1] as last,
      bit_or(quality) as quality, null as bad
    from reading
    where point_id = ${pointId} and time >= ${instantOf(from)}::timestamptz and time < ${instantOf(to)}::timestamptz
    group by bucket order by bucket`,
  );
  return rows.map((row) => asBucket(row, origin, widthMs));
}

async function bucketsOfStatistics(
  database: Database,
  pointId: number,
  range: { from: number; to: number; level: number; origin: number; widthMs: number },
  open: readonly number[],
): Promise<Bucket[]> {
  const { from, to, level, origin, widthMs } = range;
  const table = level === HOUR_MS ? sql`statistic_hour` : sql`statistic_minute`;
  const rows = await rowsOf<BucketRow>(
    database,
    sql`
    select floor((extract(epoch from time) * 1000 - ${origin}::float8) / ${widthMs}::float8) as bucket,
      sum(count) as count, min(minimum) as minimum, max(maximum) as maximum, sum(mean * count) / sum(count) as mean,
      (array_agg(first order by time))[1] as first, (array_agg(last order by time desc))[1] as last,
      bit_or(quality) as quality, sum(bad_ms) as bad
    from ${table}
    where point_id = ${pointId} and time >= ${instantOf(Math.floor(from / level) * level)}::timestamptz
      and time < ${instantOf(to)}::timestamptz
      and not (date_trunc('hour', time) = any(${list(open.map(instantOf))}::timestamptz[]))
    group by bucket order by bucket`,
  );
  return rows.map((row) => asBucket(row, origin, widthMs));
}

/** Hours within the range whose statistics are not made, or are out of date, oldest first; null: too many. */
async function openHours(database: Database, from: number, to: number): Promise<number[] | null> {
  const begin = Math.floor(from / HOUR_MS) * HOUR_MS;
  const [row] = await rowsOf<{ newest: string | null; open: number[] | null }>(
    database,
    sql`select (select extract(epoch from max(hour)) * 1000 from history_hour) as newest,
      (select json_agg(extract(epoch from hour) * 1000) from (select hour from history_hour
        where compacted is null and hour >= ${instantOf(begin)}::timestamptz and hour < ${instantOf(to)}::timestamptz
        order by hour limit ${MAX_OPEN_HOURS + 1}) as due) as open`,
  );
  const hours = [...(row.open ?? [])];
  const first = row.newest === null ? begin : Math.max(begin, Number(row.newest) + HOUR_MS);
  for (let hour = first; hour < to && hours.length <= MAX_OPEN_HOURS; hour += HOUR_MS) hours.push(hour);
  return hours.length > MAX_OPEN_HOURS ? null : hours.sort((a, b) => a - b);
}

/** Neighbouring hours as one range each. */
function runs(hours: readonly number[]): [begin: number, end: number][] {
  const ranges: [number, number][] = [];
  for (const hour of hours) {
    const last = ranges.at(-1);
    if (last && last[1] === hour) last[1] += HOUR_MS;
    else ranges.push([hour, hour + HOUR_MS]);
  }
  return ranges;
}

/** One bucket for each time: parts of it come from statistics and from readings. */
function merged(parts: readonly Bucket[]): Bucket[] {
  const byTime = new Map<number, Bucket>();
  for (const part of [...parts].sort((a, b) => a.time - b.time)) {
    const known = byTime.get(part.time);
    if (known === undefined) byTime.set(part.time, part);
    else
      byTime.set(part.time, {
        time: part.time,
        count: known.count + part.count,
        minimum: Math.min(known.minimum, part.minimum),
        maximum: Math.max(known.maximum, part.maximum),
        mean: (known.mean * known.count + part.mean * part.count) / (known.count + part.count),
        first: known.first,
        last: part.last,
        quality: known.quality | part.quality,
        badMs: known.badMs === null || part.badMs === null ? null : known.badMs + part.badMs,
      });
  }
  return [...byTime.values()];
}
