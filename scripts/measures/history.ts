import { databaseSetting, readSettings } from '@halvix/core/settings';
import { closeDatabase, closeHours, compact, historyOf, migrateDatabase, openDatabase, rowsOf } from '@halvix/db';
import { sql } from 'drizzle-orm';
import { z } from 'zod';

/*
 * How long a chart of one point with very many readings takes to be read: over all its days, a year, a month, a week, a
 * day, and the last quarter of an hour; the slowest of them counts. Readings are made by the database itself, then their
 * statistics by the same statements that the engine uses.
 */
const settings = readSettings(
  z.object({
    HALVIX_DATABASE_URL: databaseSetting,
    HALVIX_MIGRATIONS: z.string(),
    /** Readings of the point in all. */
    HALVIX_BENCH_HISTORY_ROWS: z.coerce.number().int().min(100_000).max(1_000_000_000).default(10_000_000),
    HALVIX_BENCH_HISTORY_DAYS: z.coerce.number().int().min(3).max(1000).default(100),
  }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}
const { HALVIX_DATABASE_URL, HALVIX_MIGRATIONS, HALVIX_BENCH_HISTORY_ROWS, HALVIX_BENCH_HISTORY_DAYS } = settings.value;
const DAY = 86_400_000;
const POINT = 1;
const MAX_READINGS = 2000;
const database = openDatabase(HALVIX_DATABASE_URL, { connections: 2, name: 'history-bench', deadlineMs: 600_000 });
await migrateDatabase(database, HALVIX_MIGRATIONS);

const end = Math.floor(Date.now() / DAY) * DAY;
const perDay = Math.ceil(HALVIX_BENCH_HISTORY_ROWS / HALVIX_BENCH_HISTORY_DAYS);
const dayOf = (ms: number): string => new Date(ms).toISOString().slice(0, 10);
const began = Date.now();
for (let day = HALVIX_BENCH_HISTORY_DAYS; day > 0; day--) {
  const [from, to] = [dayOf(end - day * DAY), dayOf(end - (day - 1) * DAY)];
  await database.execute(
    sql.raw(
      `create table reading_${from.replaceAll('-', '_')} partition of reading for values from ('${from} 00:00+00') to ('${to} 00:00+00')`,
    ),
  );
  await database.execute(
    sql.raw(`
    insert into reading (point_id, time, received, raw, value, quality, time_source, cause)
    select ${POINT}, at, at, v, v, 0, 1, 1 from (
      select '${from} 00:00+00'::timestamptz + i * interval '1 day' / ${perDay} as at, sin(i / 500.0) * 100 + random() as v
      from generate_series(0, ${perDay - 1}) as i) as made`),
  );
}
const made = Date.now();
await database.execute(sql`analyze reading`);
await closeHours(database, Date.now());
while ((await compact(database, 24)) > 0);
await database.execute(sql`analyze statistic_hour`);
await database.execute(sql`analyze statistic_minute`);
const ready = Date.now();
const [{ rows }] = await rowsOf<{ rows: string }>(
  database,
  sql`select sum(count) as rows from statistic_hour where point_id = ${POINT}`,
);

let slowest = 0;
for (const [words, span] of [
  ['all', HALVIX_BENCH_HISTORY_DAYS * DAY],
  ['30 days', 30 * DAY],
  ['7 days', 7 * DAY],
  ['1 day', DAY],
  ['6 hours', DAY / 4],
  ['15 minutes', DAY / 96],
] as const) {
  const times: number[] = [];
  for (let i = 0; i < 7; i++) {
    const from = performance.now();
    await historyOf(database, POINT, end - span, end, MAX_READINGS);
    times.push(performance.now() - from);
  }
  const middle = times.sort((a, b) => a - b)[3];
  slowest = Math.max(slowest, middle);
  process.stderr.write(`history.chart_ms over ${words}: ${middle.toFixed(1)}\n`);
}
process.stderr.write(
  `history: ${rows} readings made in ${((made - began) / 1000).toFixed(0)} s, statistics in ${((ready - made) / 1000).toFixed(0)} s\n`,
);
process.stdout.write(
  `${JSON.stringify({ figure: 'history.chart_ms', value: Math.round(slowest), unit: 'ms', bound: 300, better: 'lower' })}\n`,
);
await closeDatabase(database);
