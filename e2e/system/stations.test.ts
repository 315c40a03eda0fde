import { mappingTo } from '@halvix/core/mapping';
import { dnp3At } from '@halvix/core/protocols/dnp3';
import { applyConfiguration, openDatabase } from '@halvix/db';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { demoConfiguration } from '../../bench/scenario/configuration.ts';
import { compareEvents, type Logged } from '../rig/count.ts';
import { Rig } from '../rig/rig.ts';

/* The stations on the radio channel and the logger that calls, as the demo has them, with faster samples. */
let rig: Rig;
beforeAll(async () => {
  rig = await (await Rig.make('stations', inject('postgres'), { stations: true })).start();
});
afterAll(() => rig.stop());

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

test('three stations share the radio channel, each with its readings', async () => {
  for (const device of ['SKA', 'TOL', 'PKM'])
    await rig.until(`${device} answers`, async () => (await rig.hop('device', device))?.state === 'answering', 20_000);
  // The frozen counter has never been frozen yet.
  await rig.until('all but one reading are good', async () => {
    const [{ count }] = await rig.sql`
      select count(*)::int as count from latest join point_identity on id = point_id
      where device = 'SKA' and quality = 0`;
    return count === 24;
  });
  const link = await rig.hop('link', 'R1');
  expect(link).toMatchObject({ state: 'connected', devices: ['PKM', 'SKA', 'TOL'] });
});

test('who has the line when is published while somebody looks', async () => {
  await rig.sql`select pg_notify('halvix_request', ${JSON.stringify({ type: 'watchLink', link: 'R1' })})`;
  await rig.until('the lane is published', async () => (await rig.hop('lane', 'R1'))?.strip.length > 5);
  const lane = await rig.hop('lane', 'R1');
  expect(Object.keys(lane.devices).sort()).toEqual(['PKM', 'SKA', 'TOL']);
  const turns = lane.strip as { began: number; ended: number; outcome: string }[];
  // One at a time: no turn begins before the one before it has ended.
  for (let i = 1; i < turns.length; i++) expect(turns[i].began).toBeGreaterThanOrEqual(turns[i - 1].ended - 25);
  expect(lane.sendingMs).toBeGreaterThan(0);
  expect(lane.receivingMs).toBeGreaterThan(0);
});

test('one station off: its neighbours go on, and it comes back by itself', async () => {
  await rig.bench('PUT', '/devices/PKM/power', { on: false });
  await rig.until('PKM is silent', async () => (await rig.hop('device', 'PKM'))?.state === 'silent', 20_000);
  const before = (await rig.hop('device', 'SKA')).counters.responses as number;
  await pause(5000);
  await rig.until(
    'SKA is still asked',
    async () => ((await rig.hop('device', 'SKA')).counters.responses as number) > before,
  );
  expect((await rig.hop('device', 'SKA')).state).toBe('answering');
  await rig.bench('PUT', '/devices/PKM/power', { on: true });
  await rig.until('PKM answers', async () => (await rig.hop('device', 'PKM'))?.state === 'answering', 25_000);
});

test('a clock that is off is seen', async () => {
  await rig.bench('PUT', '/devices/TOL/clock', { offsetMs: 7000 });
  await rig.until(
    'the offset is known',
    async () => Math.abs(((await rig.hop('device', 'TOL'))?.clock?.offsetMs ?? 0) - 7000) < 300,
    45_000,
  );
  const words = await rig.sql`select words from journal where subject = 'TOL' and words like 'its clock is%'`;
  expect(words[0].words).toMatch(/^its clock is 7\.\d s ahead of ours$/);
});

test('all stations of the channel are told the time at once, and take it', async () => {
  const offsetOf = async (device: string): Promise<number> =>
    (await rig.bench<{ clockOffsetMs: number }>('GET', `/devices/${device}`)).clockOffsetMs;
  for (const device of ['SKA', 'TOL', 'PKM']) await rig.bench('PUT', `/devices/${device}/clock`, { offsetMs: -4000 });
  const order = { what: 'broadcast', job: 'time' };
  const request = { type: 'order', device: 'SKA', order, by: 'test' };
  await rig.sql`select pg_notify('halvix_request', ${JSON.stringify(request)})`;
  for (const device of ['SKA', 'TOL', 'PKM'])
    await rig.until(`${device} has it`, async () => Math.abs(await offsetOf(device)) < 300, 20_000);
});

test('counters are frozen by an order, and its outcome is written down', async () => {
  const order = { what: 'freeze', clear: false, range: null, acknowledged: true };
  const request = { type: 'order', device: 'SKA', order, by: 'test' };
  await rig.sql`select pg_notify('halvix_request', ${JSON.stringify(request)})`;
  await rig.until('it is written down', async () => {
    const [row] = await rig.sql`select words from journal where subject = 'SKA' and words like 'freeze counters%'`;
    return row?.words === 'freeze counters, asked by test: done';
  });
  await rig.until('the frozen counter comes', async () => {
    const [row] = await rig.sql`
      select quality from latest join point_identity on id = point_id where device = 'SKA' and kind = 'frozenCounter'`;
    return row?.quality === 0;
  });
});

describe('a level that is wanted at the weir', () => {
  const wanted = async (): Promise<number | undefined> => {
    const [row] = await rig.sql`
      select raw from latest join point_identity on id = point_id where device = 'SKA' and kind = 'setpoint'`;
    return row?.raw as number | undefined;
  };
  const lastCommand = async (): Promise<Record<string, unknown>> => {
    const [row] = await rig.sql`select * from command where device = 'SKA' order by requested desc limit 1`;
    return row;
  };

  test('goes to the station by select and operate, and the station shows that it took it', async () => {
    const [{ id: point }] = await rig.sql`select id from point_identity where device = 'SKA' and kind = 'setpoint'`;
    const id = randomUUID();
    await rig.sql`
      insert into command (id, point_id, device, address, operation, counts, mode, on_ms, off_ms, count,
        requested_by, state, requested, expires)
      values (${id}, ${point}, 'SKA', 'AO 0', 'set', 2150, 'selectOperate', 0, 0, 1, 'test', 'requested',
        ${new Date()}, ${new Date(Date.now() + 10_000)})`;
    await rig.sql.notify('halvix_command', id);
    await rig.until('it is confirmed', async () => (await lastCommand()).state === 'confirmed', 20_000);
    expect((await lastCommand()).words).toMatch(/^Upstream level wanted: 2.15 m/);
    await rig.until('it shows', async () => (await wanted()) === 2150);
    const told = async (): Promise<string> =>
      (await rig.sql`select words from journal where tone = 'control' and subject = 'SKA'`)[0]?.words ?? '';
    await rig.until('the journal tells', async () => (await told()) !== '');
    expect(await told()).toMatch(/^Upstream level wanted: set to 2.15 m by test, confirmed/);
  });

  test("comes from a centre too, in the unit it is mapped in; the station's own status goes back", async () => {
    const configuration = demoConfiguration({ ...rig.ports });
    const outbound = configuration.outbounds.find(({ code }) => code === 'QST');
    outbound?.mappings.push(
      mappingTo({ device: 'SKA', kind: 'setpoint', at: dnp3At(0) }, 'dnp3', 'setpoint', 7, 'engineering'),
    );
    outbound?.mappings.push(mappingTo({ device: 'SKA', kind: 'text', at: dnp3At(0) }, 'dnp3', 'text', 3, 'raw'));
    if (outbound) outbound.settings = { ...outbound.settings, commandClass: 1 };
    const textAtCentre = async (): Promise<unknown> =>
      (await rig.bench<{ kind: string; text?: string }[]>('GET', '/centres/QST/points')).find(
        ({ kind }) => kind === 'text',
      )?.text;
    const database = openDatabase(rig.databaseUrl, { connections: 1, name: 'test' });
    await applyConfiguration(database, configuration, 'test', 'the level goes to the centre');
    await database.$client.end();
    const atCentre = async (): Promise<number | undefined> => (await rig.centrePoint('QST', 'setpoint', 7))?.value;
    await rig.until('the centre sees it', async () => Math.abs(((await atCentre()) ?? 0) - 2.15) < 1e-6);
    const set = (value: number): Promise<{ step: string; status?: number }[]> =>
      rig.bench('POST', '/centres/QST/controls', { index: 7, setpoint: { variation: 3, value } });
    expect((await set(1.5)).at(-1)).toMatchObject({ step: 'operated' });
    await rig.until('the station has it', async () => (await wanted()) === 1500);
    await rig.until('the centre sees that', async () => Math.abs(((await atCentre()) ?? 0) - 1.5) < 1e-6);
    // What was ordered last is a text of the station; it came, and is kept, as such.
    await rig.until('the text is there', async () => {
      const rows = await rig.sql`
        select text from reading join point_identity on id = point_id where device = 'SKA' and kind = 'text' order by time`;
      return rows.at(-1)?.text === 'level 1.500 m' && rows[0].text === 'none since power up';
    });
    await rig.until('the centre has it', async () => (await textAtCentre()) === 'level 1.500 m');
    // Beyond the limits of the list nothing is sent; beyond those of the station, the station says so.
    const before = (await lastCommand()).id;
    expect((await set(4.5)).at(-1)).toMatchObject({ step: 'refused', status: 12 });
    expect((await lastCommand()).id).toBe(before);
    await rig.bench('PUT', '/devices/SKA/points/binary/1', { value: 0 });
    expect((await set(1.6)).at(-1)).toMatchObject({ step: 'refused', status: 7 });
    await rig.bench('DELETE', '/devices/SKA/points/binary/1');
    expect(await wanted()).toBe(1500);
    // What its outputs were told, and what came of it, the centre knows as command events.
    const told = async (): Promise<object[]> => rig.bench('GET', '/centres/QST/commands');
    await rig.until('the centre was told', async () => (await told()).length === 2);
    expect(await told()).toMatchObject([
      { kind: 'setpoint', index: 7, value: 1.5, status: 0 },
      { kind: 'setpoint', index: 7, value: expect.closeTo(1.6, 5) as number, status: 7 },
    ]);
  }, 60_000);
});

test('the logger calls, gives its backlog and hangs up; history equals its own log, sample by sample', async () => {
  const calls = (): Promise<{ connected: boolean }> => rig.bench('GET', '/links/LMB');
  // Away for a while: more than one call's worth of samples.
  await rig.bench('PUT', '/links/LMB/impairments', { silence: true });
  await pause(9000);
  await rig.bench('PUT', '/links/LMB/impairments', {});
  await rig.until(
    'it has handed everything over',
    async () => {
      const log = await rig.bench<Logged[]>('GET', '/devices/LMB/log');
      return log.length > 30 && log.slice(0, -12).every(({ state }) => state !== 'waiting');
    },
    40_000,
  );
  await rig.until('it has hung up', async () => !(await calls()).connected, 20_000);
  expect(await rig.hop('device', 'LMB')).toMatchObject({ state: expect.stringMatching(/resting|answering/) });
  const log = (await rig.bench<Logged[]>('GET', '/devices/LMB/log')).filter(({ state }) => state === 'delivered');
  expect(log.length).toBeGreaterThan(30);
  expect(await compareEvents(rig, log, 'LMB')).toEqual({ lost: [], repeated: [] });
  // Sample by sample, in the order of their times.
  for (const index of [0, 1, 2]) {
    const rows = await rig.sql`
      select raw, (extract(epoch from time) * 1000)::float8 as time
      from reading join point_identity on id = point_id
      where device = 'LMB' and address = ${`AI ${index}`} and cause = 1 order by time`;
    const own = log.filter((one) => one.kind === 'analog' && one.index === index);
    const last = own[own.length - 1].time;
    expect(rows.filter((row) => Math.round(row.time) <= last).map((row) => [row.raw, Math.round(row.time)])).toEqual(
      [...own].sort((a, b) => a.time - b.time).map(({ value, time }) => [value, time]),
    );
  }
  const late = await rig.sql`
    select count(*)::int as count from reading join point_identity on id = point_id
    where device = 'LMB' and cause = 1 and received - time > interval '4 seconds'`;
  expect(late[0].count).toBeGreaterThan(10);
}, 120_000);
