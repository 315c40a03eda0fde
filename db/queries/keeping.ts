import { INVALID, POINT_KINDS, type PointKind } from '@halvix/core/point';
import { sql } from 'drizzle-orm';
import { rowsOf, transact, type Connection, type Database } from '../open.ts';
import { probe, retention, webSession } from '../schema/index.ts';

/*
 * The life of history: a partition for each day, statistics of each hour once it is over, and an end.
 *
 * Rules:
 * 1. Each day has a partition, made days ahead. What was stored before its day had one goes to the other days, and
 *    moves home once the day is near (a clock jumped) or past.
 * 2. An hour that is over has its statistics made, of each minute and of the whole. Readings that come later mark their
 *    hour (`storeBatch`), in the same transaction: it is made anew.
 * 3. Days end when no kind of point keeps them any more; kinds that keep less lose their rows of a day earlier.
 * 4. What needs a table for itself waits for it no longer than `LOCK_WAIT_MS`: behind whoever waits for a lock everybody
 *    else waits too, and whoever reads all of history may do so for hours. It is tried again in the next round; days are
 *    made long enough ahead for that.
 */

const DAY_MS = 86_400_000;
const HOUR_MS = 3_600_000;
const dayOf = (ms: number): string => new Date(ms).toISOString().slice(0, 10);
const nameOf = (day: string): string => `reading_${day.replaceAll('-', '_')}`;
const DAY_NAME = /^reading_(\d{4})_(\d\d)_(\d\d)$/;

/** How long housekeeping may wait for a table that somebody uses, with everybody else behind it. */
const LOCK_WAIT_MS = 200;

/** A transaction that gives up rather than to be waited for. */
const inPassing = <Result>(database: Database, work: (client: Connection) => Promise<Result>): Promise<Result> =>
  transact(database, () => `set local lock_timeout = ${LOCK_WAIT_MS}`, work);

/**
 * Makes the partitions of yesterday, today and the days after it. A day that cannot have one stays with the other days.
 * They are made apart and attached: making them in place would lock all of history.
 */
export async function makePartitions(database: Database, now: number, days: number): Promise<string[]> {
  const problems: string[] = [];
  const there = new Set((await partitionDays(database)).map(({ name }) => name));
  for (let day = -1; day < days; day++) {
    const [from, to] = [dayOf(now + day * DAY_MS), dayOf(now + (day + 1) * DAY_MS)];
    const name = nameOf(from);
    if (there.has(name)) continue;
    try {
      await inPassing(database, async (client) => {
        await client.query(`create table ${name} (like reading including defaults)`);
        await client.query(attached(name, `${from} 00:00+00`, `${to} 00:00+00`));
      });
    } catch (error) {
      problems.push(`${name}: ${error instanceof Error ? String(error.cause ?? error.message) : String(error)}`);
    }
  }
  return problems;
}

/** With the bounds as a check first, so that nothing is looked through while it is attached. */
const attached = (name: string, from: string, to: string): string =>
  `alter table ${name} add constraint ${name}_day check (time >= '${from}' and time < '${to}');
   alter table reading attach partition ${name} for values from ('${from}') to ('${to}');
   alter table ${name} drop constraint ${name}_day`;

/** Days of which readings lie with the other days, oldest first, from one instant to another. */
async function strayDays(database: Database, from: number, to: number, limit: number): Promise<string[]> {
  const rows = await rowsOf<{ day: string }>(
    database,
    sql`select distinct to_char(time at time zone 'UTC', 'YYYY-MM-DD') as day from reading_other_days
      where time >= ${new Date(from).toISOString()}::timestamptz and time < ${new Date(to).toISOString()}::timestamptz
      order by day limit ${limit}`,
  );
  return rows.map(({ day }) => day);
}

/**
 * Moves readings home that lie with the other days: each of their days gets its partition. Only days that are kept, and
 * not further ahead than `days`; returns those that moved.
 */
export async function bringHome(database: Database, now: number, days: number, keptDays: number): Promise<string[]> {
  const stray = await strayDays(database, now - keptDays * DAY_MS, now + days * DAY_MS, 40);
  for (const day of stray)
    await inPassing(database, async (client) => {
      const next = dayOf(Date.parse(`${day}T00:00Z`) + DAY_MS);
      const [name, from, to] = [nameOf(day), `${day} 00:00+00`, `${next} 00:00+00`];
      const { rows } = await client.query('select 1 from pg_class where relname = $1', [name]);
      if (rows.length > 0) return;
      await client.query('lock table reading_other_days in access exclusive mode');
      await client.query(`create table ${name} (like reading including defaults)`);
      await client.query(
        `with moved as (delete from reading_other_days where time >= '${from}' and time < '${to}' returning *)
         insert into ${name} select * from moved`,
      );
      await client.query(attached(name, from, to));
    });
  return stray;
}

/** Notes the hours that are over: their statistics are due. */
export async function closeHours(database: Database, now: number): Promise<void> {
  // Up to ten minutes a reading may be on its way without being late.
  const end = Math.floor((now - 10 * 60_000) / HOUR_MS) * HOUR_MS;
  await database.execute(sql`
    insert into history_hour (hour)
    select generate_series(
      coalesce((select max(hour) + interval '1 hour' from history_hour where compacted is not null),
        (select date_trunc('hour', min(time)) from reading where time > '1971-01-01' and time < ${new Date(end).toISOString()}::timestamptz),
        ${new Date(end).toISOString()}::timestamptz),
      ${new Date(end - HOUR_MS).toISOString()}::timestamptz, interval '1 hour')
    on conflict do nothing`);
}

/** Makes the statistics of hours that are due, the oldest first; returns how many hours. */
export async function compact(database: Database, most: number): Promise<number> {
  const hours = await rowsOf<{ hour: Date | string }>(
    database,
    sql`select hour from history_hour where compacted is null order by hour limit ${most}`,
  );
  for (const { hour } of hours) {
    const from = new Date(hour);
    const to = new Date(from.getTime() + HOUR_MS);
    await transact(database, async (client) => {
      // The row first: whoever adds to this hour meanwhile marks it again afterwards.
      await client.query('update history_hour set compacted = clock_timestamp() where hour = $1', [from]);
      for (const [table, unit] of [
        ['statistic_minute', 'minute'],
        ['statistic_hour', 'hour'],
      ]) {
        await client.query(`delete from ${table} where time >= $1 and time < $2`, [from, to]);
        await client.query(statisticsOf(table, unit), [from, to, INVALID]);
      }
    });
  }
  return hours.length;
}

/**
 * Statistics of a span ($1, $2) by unit. A value holds until the next one, or the end of its unit; what was bad before
 * the first reading of an hour counts too, by the statistics of the hours before. $3: reasons that make it bad.
 */
const statisticsOf = (table: string, unit: string): string => `
  with rows as (
    select point_id, time, received, value, quality, date_trunc('${unit}', time) as unit,
      lead(time) over (partition by point_id, date_trunc('${unit}', time) order by time, received) as next
    from reading where time >= $1 and time < $2 and text is null
  ), units as (
    select point_id, unit, min(value) as minimum, max(value) as maximum, avg(value) as mean,
      (array_agg(value order by time, received))[1] as first,
      (array_agg(value order by time desc, received desc))[1] as last,
      count(*) as count, bit_or(quality) as quality,
      (array_agg(quality order by time desc, received desc))[1] as last_quality,
      min(time) as begins,
      sum(case when quality & $3::int = 0 then 0
        else extract(epoch from coalesce(next, unit + interval '1 ${unit}') - time) * 1000 end) as bad
    from rows group by point_id, unit
  )
  insert into ${table} (point_id, time, minimum, maximum, mean, first, last, count, quality, last_quality, bad_ms)
  select point_id, unit, minimum, maximum, mean, first, last, count, quality, last_quality,
    round(bad + case when coalesce((select last_quality from statistic_hour as before
        where before.point_id = units.point_id and before.time < $1 order by before.time desc limit 1), 0) & $3::int <> 0
        and unit = $1
      then extract(epoch from begins - unit) * 1000 else 0 end)
  from units`;

export interface Retention {
  kind: PointKind;
  readingsDays: number;
  statisticsDays: number;
}
export const RETENTION_BY_DEFAULT = { readingsDays: 400, statisticsDays: 3653 } as const;

/** How long each kind's history is kept. */
export async function retentions(database: Database): Promise<Retention[]> {
  const rows = new Map((await database.select().from(retention)).map((row) => [row.kind, row]));
  return POINT_KINDS.map((kind) => ({ ...RETENTION_BY_DEFAULT, ...rows.get(kind), kind }));
}

export async function setRetention(
  database: Database,
  { kind, readingsDays, statisticsDays }: Retention,
): Promise<void> {
  const set = { readingsDays, statisticsDays };
  await database
    .insert(retention)
    .values({ kind, ...set })
    .onConflictDoUpdate({ target: retention.kind, set });
}

/** The days that have a partition, oldest first. */
async function partitionDays(database: Database): Promise<{ name: string; begins: number }[]> {
  const rows = await rowsOf<{ name: string }>(
    database,
    sql`select relname as name from pg_inherits join pg_class on pg_class.oid = inhrelid
      where inhparent = 'reading'::regclass order by relname`,
  );
  return rows.flatMap(({ name }) => {
    const match = DAY_NAME.exec(name);
    return match === null ? [] : [{ name, begins: Date.UTC(Number(match[1]), Number(match[2]) - 1, Number(match[3])) }];
  });
}

/** Ends what nobody keeps any more. Returns the days whose readings are gone altogether. */
export async function endOldHistory(database: Database, now: number): Promise<string[]> {
  const kept = await retentions(database);
  const longest = Math.max(...kept.map(({ readingsDays }) => readingsDays));
  const ended: string[] = [];
  for (const { name, begins } of await partitionDays(database)) {
    const ageDays = Math.floor((now - begins) / DAY_MS) - 1;
    if (ageDays >= longest) {
      await inPassing(database, (client) => client.query(`drop table ${name}`));
      ended.push(name);
      continue;
    }
    // Each day passes each kind's bound once; a few days later still, should the engine have been away.
    for (const { kind, readingsDays } of kept)
      if (ageDays >= readingsDays && ageDays < readingsDays + 7)
        await database.execute(
          sql`delete from ${sql.raw(name)} where point_id in (select id from point_identity where kind = ${kind})`,
        );
  }
  for (const { kind, statisticsDays } of kept)
    for (const table of ['statistic_minute', 'statistic_hour'])
      await database.execute(
        sql`delete from ${sql.raw(table)} where time < ${new Date(now - statisticsDays * DAY_MS).toISOString()}::timestamptz
          and point_id in (select id from point_identity where kind = ${kind})`,
      );
  return ended;
}

/** What nobody needs any more beside history: sessions that are over, probes of yesterday. Controls and revisions stay. */
export async function tidy(database: Database, now: number): Promise<void> {
  await database.delete(webSession).where(sql`${webSession.expires} < ${new Date(now).toISOString()}::timestamptz`);
  await database.delete(probe).where(sql`${probe.requested} < ${new Date(now - DAY_MS).toISOString()}::timestamptz`);
}

export interface HistorySize {
  /** Octets on the disk. */
  readings: number;
  statistics: number;
  database: number;
  /** Days with readings, oldest first: what each takes. */
  days: { day: string; octets: number }[];
  /** With the days that have none of their own. */
  otherDays: number;
  /** Hours whose statistics are to be made. */
  openHours: number;
}

export async function historySize(database: Database): Promise<HistorySize> {
  const rows = await rowsOf<{ name: string; octets: string }>(
    database,
    sql`select relname as name, pg_total_relation_size(inhrelid) as octets from pg_inherits
      join pg_class on pg_class.oid = inhrelid where inhparent = 'reading'::regclass order by relname`,
  );
  const [rest] = await rowsOf<{ statistics: string; database: string; open: string }>(
    database,
    sql`select pg_total_relation_size('statistic_minute') + pg_total_relation_size('statistic_hour') as statistics,
      pg_database_size(current_database()) as database,
      (select count(*) from history_hour where compacted is null) as open`,
  );
  const days = rows.flatMap(({ name, octets }) => {
    const match = DAY_NAME.exec(name);
    return match === null ? [] : [{ day: match.slice(1).join('-'), octets: Number(octets) }];
  });
  return {
    readings: rows.reduce((sum, { octets }) => sum + Number(octets), 0),
    statistics: Number(rest.statistics),
    database: Number(rest.database),
    days,
    otherDays: rows.filter(({ name }) => !DAY_NAME.test(name)).reduce((sum, { octets }) => sum + Number(octets), 0),
    openHours: Number(rest.open),
  };
}
