import { afterAll, beforeAll, expect, test } from 'vitest';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { dataFolder, Postgres } from '../../scripts/lib/postgres.mjs';
import { countEvents } from '../rig/count.ts';
import { Rig } from '../rig/rig.ts';

let postgres: Postgres;
let rig: Rig;
beforeAll(async () => {
  const [port] = await freePorts(1);
  // Durable: what is committed has to survive a crash of the database.
  postgres = new Postgres(dataFolder(`test-crash-${process.pid}/postgres`), port, { durable: true });
  await postgres.reset();
  await postgres.start();
  rig = await (await Rig.make('database', postgres)).start();
});
afterAll(async () => {
  await rig.stop();
  await postgres.remove();
});

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

test('the database crashes under load: every event is stored exactly once, and everything goes on by itself', async () => {
  await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 200 });
  // The first absence is shorter than the wait for a commit, the second one longer.
  for (const awayMs of [800, 7000]) {
    await pause(2000);
    await postgres.stop('immediate');
    await pause(awayMs);
    await postgres.start();
    await rig.until('history is written again', async () => {
      const health = await fetch(`http://127.0.0.1:${rig.ports.engine}/healthz`);
      return health.ok;
    });
  }
  await pause(3000);
  await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 0 });
  await pause(500);
  const { made, lost, repeated } = await countEvents(rig);
  process.stdout.write(`database crash: ${made} events made, ${lost.length} lost, ${repeated.length} stored twice\n`);
  expect(made).toBeGreaterThan(2000);
  expect(lost.slice(0, 5)).toEqual([]);
  expect(repeated.slice(0, 5)).toEqual([]);
});

test('live values and controls are back after the crash', async () => {
  await rig.force('analog', 7, 777);
  const id = await rig.pointId('analog', 7);
  await rig.until('the newest value is published', async () => {
    const [row] = await rig.sql`select raw from latest where point_id = ${id}`;
    return row?.raw === 777;
  });
  const steps = await rig.bench<{ step: string }[]>('POST', '/centres/QST/controls', {
    index: 0,
    operation: 'trip',
    mode: 'direct',
  });
  expect(steps.at(-1)?.step).toBe('operated');
});
