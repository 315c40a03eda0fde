import { configurationSchema, type Configuration } from '@halvix/core/config';
import { readAddress } from '@halvix/core/protocols';
import { mappingTo } from '@halvix/core/mapping';
import { applyConfiguration, closeDatabase, openDatabase, type Database } from '@halvix/db';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { demoConfiguration } from '../../bench/scenario/configuration.ts';
import { Rig } from '../rig/rig.ts';

/* Communication failure as points: of devices, of what is asked for one point, and of centres; mapped like any other. */
let rig: Rig;
let database: Database;
const DEVICE = 'SUP';
const ADDRESSES = ['comm HLM-F1', 'comm HLM-F1 AI 7', 'comm to QST', 'comm to AMB'];

function withSupervision(addresses: readonly string[]): Configuration {
  const demo = demoConfiguration({ ...rig.ports });
  const points = addresses.map((address, n) => {
    const at = readAddress('supervision', address)?.at;
    if (at === undefined) throw new Error(address);
    return { kind: 'binary' as const, at, name: `Communication ${n}`, states: ['normal', 'failed'] };
  });
  const [quillstone, ...others] = demo.outbounds;
  return configurationSchema.parse({
    ...demo,
    devices: [
      ...demo.devices,
      {
        ...{ code: DEVICE, name: 'Supervision', station: 'HLM', link: '', protocol: 'supervision', settings: {} },
        points,
      },
    ],
    outbounds: [
      {
        ...quillstone,
        mappings: [
          ...quillstone.mappings,
          ...points.map(({ kind, at }, n) => mappingTo({ device: DEVICE, kind, at }, 'dnp3', 'binary', 200 + n, 'raw')),
        ],
      },
      ...others,
    ],
  });
}

beforeAll(async () => {
  rig = await Rig.make('supervision', inject('postgres'));
  await rig.start();
  database = openDatabase(rig.databaseUrl, { connections: 1, name: 'test' });
  await applyConfiguration(database, withSupervision(ADDRESSES), 'test', 'with supervision');
}, 60_000);
afterAll(async () => {
  await closeDatabase(database);
  await rig.stop();
});

const latest = async (address: string): Promise<Record<string, unknown> | undefined> =>
  (
    await rig.sql`select raw, quality from latest join point_identity on id = point_id
      where device = ${DEVICE} and address = ${address}`
  )[0];
const becomes = (address: string, raw: number): Promise<number> =>
  rig.until(
    `${address} is ${raw}`,
    async () => {
      const now = await latest(address);
      return now?.raw === raw && now.quality === 0;
    },
    30_000,
  );
const atCentre = async (n: number): Promise<number | undefined> =>
  (await rig.centrePoint('QST', 'binary', 200 + n))?.value;

test('a relay that goes away and comes back, and what is asked for its point, is told to the centre', async () => {
  await becomes('comm HLM-F1', 0);
  await becomes('comm HLM-F1 AI 7', 0);
  await becomes('comm to QST', 0);
  await rig.until('the centre has it', async () => (await atCentre(0)) === 0);
  await rig.power(false);
  await becomes('comm HLM-F1', 1);
  await becomes('comm HLM-F1 AI 7', 1);
  await rig.until('the centre is told', async () => (await atCentre(0)) === 1 && (await atCentre(1)) === 1);
  // The reading is good: it is the relay that is not there.
  expect((await rig.centrePoint('QST', 'binary', 200))?.flags).toBe(1);
  await rig.power(true);
  await becomes('comm HLM-F1', 0);
  await rig.until('the centre is told', async () => (await atCentre(0)) === 0 && (await atCentre(1)) === 0);
});

test('each change is stored once, with the time at which it came about', async () => {
  const rows = await rig.sql`select raw, quality, reading.time from reading join point_identity on id = point_id
    where device = ${DEVICE} and address = 'comm HLM-F1' and quality = 0 order by reading.time, received`;
  expect(rows.map(({ raw }) => raw)).toEqual([0, 1, 0]);
  const [journal] = await rig.sql`select time from journal where subject = 'HLM-F1' and words like 'no communication%'
    order by id desc limit 1`;
  expect(Math.abs(Number(rows[1].time) - Number(journal.time))).toBeLessThan(1000);
});

test('a centre that connects and goes', async () => {
  await rig.bench('PUT', '/centres/AMB/power', { on: true });
  await becomes('comm to AMB', 0);
  await rig.bench('PUT', '/centres/AMB/power', { on: false });
  await becomes('comm to AMB', 1);
  await rig.until('the other centre knows', async () => (await atCentre(3)) === 1);
});

test('another list goes on where it was; one that is gone is gone', async () => {
  await applyConfiguration(database, withSupervision(ADDRESSES.slice(0, 3)), 'test', 'one less');
  await rig.until('applied', async () => (await rig.hop('outbound', 'QST'))?.state === 'listening');
  await becomes('comm HLM-F1', 0);
  const rows = await rig.sql`select 1 from reading join point_identity on id = point_id
    where device = ${DEVICE} and address = 'comm HLM-F1' and quality = 0`;
  expect(rows.length).toBeLessThanOrEqual(4);
});
