import { configurationSchema } from '@halvix/core/config';
import { CarryingFragment, ReplayGuard, type MeasuredReading } from '@halvix/core/protocols/dnp3';
import { databaseSetting, readSettings } from '@halvix/core/settings';
import {
  copyReadings,
  makePartitions,
  migrateDatabase,
  openDatabase,
  rowsOf,
  takeWriters,
  type StoredReading,
} from '@halvix/db';
import { sql } from 'drizzle-orm';
import { z } from 'zod';
import { Contributions } from '../handon/contributions.ts';
import { Exchange } from './exchange.ts';
import { Historian, WRITERS } from '../store/historian.ts';
import { Ingest } from './ingest.ts';
import { Journal } from '../journal.ts';

/*
 * Readings per second by the engine's own path (replay guard, scaling, exchange, batches that are committed before
 * their confirm) over a bare COPY of the same rows into the same table. Rounds alternate; the middle ratio counts.
 */
const DEVICES = 500;
const POINTS = 100;
const FRAGMENTS = 5;
const PER_FRAGMENT = 100;
const ROWS = DEVICES * FRAGMENTS * PER_FRAGMENT;
const ROUNDS = 7;

const settings = readSettings(
  z.object({ HALVIX_DATABASE_URL: databaseSetting, HALVIX_MIGRATIONS: z.string() }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}
const database = openDatabase(settings.value.HALVIX_DATABASE_URL, { connections: 3, name: 'ingest-bench' });
await migrateDatabase(database, settings.value.HALVIX_MIGRATIONS);
await makePartitions(database, Date.now(), 2);

const configuration = configurationSchema.parse({
  schema: 'halvix.configuration',
  version: 3,
  network: 'ingest',
  stations: [],
  outbounds: [],
  links: [],
  devices: Array.from({ length: DEVICES }, (_, d) => ({
    code: `D${d}`,
    name: `device ${d}`,
    station: 'S',
    link: 'L',
    protocol: 'dnp3',
    settings: { ourAddress: 1, theirAddress: 2 },
    points: Array.from({ length: POINTS }, (_p, index) => ({
      kind: 'analog',
      at: { protocol: 'dnp3', index },
      name: `point ${index}`,
      gain: 0.1,
    })),
  })),
});

/** Fragments of events, their times counting up, as a decoded answer has them. */
const carrying = new CarryingFragment([]);
function fragment(round: number, device: number, number: number): MeasuredReading[] {
  const began = Date.now() - 3_600_000 + round * 60_000;
  return Array.from({ length: PER_FRAGMENT }, (_, i) => ({
    id: device * POINTS + (i % POINTS) + 1,
    kind: 'analog' as const,
    index: i % POINTS,
    value: device * 7 + number * 13 + i,
    raw: device * 7 + number * 13 + i,
    flags: 1,
    quality: 0,
    time: began + number * 100 + i,
    timeSource: 'device' as const,
    event: true,
    group: 32,
    variation: 3,
    at: 0,
    octets: 11,
    bit: null,
  }));
}

const row = (device: number, one: MeasuredReading): StoredReading => ({
  pointId: device * POINTS + one.index + 1,
  raw: one.value,
  value: one.value * 0.1,
  quality: 0,
  time: one.time ?? 0,
  timeSource: 'device',
  received: Date.now(),
  cause: 'event',
});

async function byTheEngine(round: number): Promise<{ seconds: number; rows: StoredReading[] }> {
  const exchange = new Exchange();
  await takeWriters(database, WRITERS, `round ${round}`);
  const fail = (): never => {
    throw new Error('readings were not stored');
  };
  const historian = new Historian({ database, run: `round ${round}`, fenced: fail, refused: fail, file: null });
  const context = { exchange, historian, contributions: new Contributions(fail), journal: new Journal() };
  const fragments = configuration.devices.map((_, d) =>
    Array.from({ length: FRAGMENTS }, (_f, n) => fragment(round, d, n)),
  );
  const ingests = configuration.devices.map((device, d) => {
    exchange.setDevice(device, (address) => d * POINTS + Number(address.split(' ')[1]) + 1);
    return { ingest: new Ingest(device, context), guard: new ReplayGuard() };
  });
  const began = performance.now();
  await Promise.all(
    ingests.map(({ ingest, guard }, d) => {
      return new Promise<void>((resolve) => {
        const next = (n: number): void => {
          if (n === FRAGMENTS) resolve();
          // The next answer comes after the confirm of the one before.
          else {
            const carried = { scope: 7, first: true, final: true, unsolicited: false, overflow: false, waiting: 0 };
            const { fresh } = guard.admit(fragments[d][n], carried);
            const events = fragments[d][n].filter((_, at) => fresh[at]);
            ingest.take(events, carrying, { keep: guard.remembered(), committed: () => next(n + 1) });
            guard.settle(7);
          }
        };
        next(0);
      });
    }),
  );
  const seconds = (performance.now() - began) / 1000;
  // The same rows in the order in which they came: the first fragment of each device, then the second …
  const rows = Array.from({ length: FRAGMENTS }, (_, n) =>
    fragments.flatMap((of, d) => of[n].map((one) => row(d, one))),
  );
  return { seconds, rows: rows.flat() };
}

async function byCopyAlone(rows: readonly StoredReading[]): Promise<number> {
  const copy = copyReadings(database, rows);
  const began = performance.now();
  await copy();
  return (performance.now() - began) / 1000;
}

const ratios: number[] = [];
const rates: number[] = [];
for (let round = -1; round < ROUNDS; round++) {
  await database.execute(sql`truncate reading`);
  const { seconds, rows } = await byTheEngine(round);
  await database.execute(sql`truncate reading`);
  const alone = await byCopyAlone(rows);
  const [{ stored }] = await rowsOf<{ stored: number }>(database, sql`select count(*)::int as stored from reading`);
  if (stored !== ROWS) throw new Error(`${stored} rows stored, ${ROWS} expected`);
  // The first round warms up both.
  if (round < 0) continue;
  ratios.push(alone / seconds);
  rates.push(ROWS / seconds);
}
const middle = (values: number[]): number => values.sort((a, b) => a - b)[Math.floor(values.length / 2)];
process.stdout.write(
  `${JSON.stringify({ figure: 'ingest.copy_ratio', value: Number(middle(ratios).toFixed(3)), unit: 'ratio', bound: 0.85, better: 'higher' })}\n`,
);
process.stderr.write(`ingest: ${Math.round(middle(rates))} readings/s by the engine's own path\n`);
await database.$client.end();
