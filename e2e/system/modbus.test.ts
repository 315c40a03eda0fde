import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { METER_UNITS } from '../../bench/scenario/modbus.ts';
import { Rig } from '../rig/rig.ts';

/* Modbus servers of the scenario through the whole system: a flow computer, a transformer monitor and a line of meters. */
let rig: Rig;
beforeAll(async () => {
  rig = await (await Rig.make('modbus', inject('postgres'), { modbus: true })).start();
});
afterAll(() => rig.stop());

const METERS = METER_UNITS.map((unit) => `ORL-M${unit - 10}`);
const latest = async (device: string, address: string): Promise<Record<string, unknown> | undefined> => {
  const [row] = await rig.sql`
    select raw, value, text, quality from latest join point_identity on id = point_id
    where device = ${device} and address = ${address}`;
  return row;
};
const bench = (
  device: string,
): Promise<{ kind: string; index: number; name: string; value: number; text?: string }[]> =>
  rig.bench('GET', `/devices/${device}/points`);

/** Orders a control as the web does; resolves with its row at its end. */
async function order(device: string, address: string, operation: string, counts: number | null, onMs = 0) {
  const [{ id: point }] = await rig.sql`
    select id from point_identity where device = ${device} and address = ${address}`;
  const id = randomUUID();
  await rig.sql`
    insert into command (id, point_id, device, address, operation, counts, mode, on_ms, off_ms, count, requested_by, state,
      requested, expires)
    values (${id}, ${point}, ${device}, ${address}, ${operation}, ${counts}, 'direct', ${onMs}, 0, 1, 'test', 'requested',
      ${new Date()}, ${new Date(Date.now() + 10_000)})`;
  await rig.sql.notify('halvix_command', id);
  const row = async (): Promise<Record<string, unknown>> => (await rig.sql`select * from command where id = ${id}`)[0];
  await rig.until('the command has ended', async () => (await row()).ended !== null, 20_000);
  return row();
}

test('all of them are read, and each value is what the device has', async () => {
  for (const device of ['FNK-FC', 'HLM-TM', ...METERS])
    await rig.until(`${device} answers`, async () => (await rig.hop('device', device))?.state === 'answering', 30_000);
  await rig.until('every point has a good value', async () => {
    const [{ count }] = await rig.sql`
      select count(*)::int as count from latest join point_identity on id = point_id
      where device in ${rig.sql(['FNK-FC', 'HLM-TM', ...METERS])} and quality = 0`;
    return count === 19 + 11 + 8 * 7;
  });
  expect(await latest('FNK-FC', 'IR 40')).toMatchObject({ text: 'FC-204417' });
  // More digits than a number of 64 bits floating has.
  const energy = await latest('FNK-FC', 'IR 12');
  expect(String(energy?.text)).toMatch(/^90071992547\d{5}$/);
  const flow = (await bench('FNK-FC')).find(({ name }) => name === 'Gas flow');
  expect(Math.abs(Number((await latest('FNK-FC', 'IR 0'))?.value) - (flow?.value ?? 0))).toBeLessThan(20);
  for (const [n, device] of METERS.entries())
    expect(await latest(device, 'IR 60')).toMatchObject({ text: `EM-${6411 + n}` });
});

test('a coil and a register are written, and what is read back is the feedback', async () => {
  expect(await order('FNK-FC', 'CO 0', 'latchOff', null)).toMatchObject({ state: 'confirmed' });
  await rig.until('the valve is shut', async () => (await latest('FNK-FC', 'DI 1'))?.raw === 1);
  expect(await order('FNK-FC', 'HR 100', 'set', 1500)).toMatchObject({ state: 'confirmed' });
  await rig.until('it is shown', async () => (await latest('FNK-FC', 'HR 100'))?.value === 150);
  expect(await order('FNK-FC', 'CO 0', 'latchOn', null)).toMatchObject({ state: 'confirmed' });
  const { operations } = await rig.bench<{ operations: number }>('GET', '/devices/FNK-FC');
  expect(operations).toBe(3);
});

test('a pulse is on for its time', async () => {
  const ordered = order('FNK-FC', 'CO 3', 'pulseOn', null, 800);
  await rig.until('it is on', async () => (await bench('FNK-FC')).find(({ name }) => name === 'Purge')?.value === 1);
  await rig.until(
    'it is off again',
    async () => (await bench('FNK-FC')).find(({ name }) => name === 'Purge')?.value === 0,
  );
  expect((await ordered).state).toBe('operated');
});

test('what the device refuses is refused with its exception', async () => {
  await rig.bench('PUT', '/devices/FNK-FC/points/binary/2', { value: 0 });
  const refused = await order('FNK-FC', 'CO 0', 'latchOff', null);
  expect(refused).toMatchObject({ state: 'refused', status: 4 });
  expect(refused.words).toContain('exception 04');
  await rig.bench('DELETE', '/devices/FNK-FC/points/binary/2');
});

test('one meter off: the others go on, and it comes back by itself', async () => {
  await rig.bench('PUT', '/devices/ORL-M3/power', { on: false });
  await rig.until('it is silent', async () => (await rig.hop('device', 'ORL-M3'))?.state === 'silent', 20_000);
  expect((await latest('ORL-M3', 'IR 0'))?.quality).toBe(1);
  const before = (await rig.hop('device', 'ORL-M4')).counters.responses as number;
  await rig.until(
    'its neighbour is still asked',
    async () => ((await rig.hop('device', 'ORL-M4')).counters.responses as number) > before,
  );
  await rig.bench('PUT', '/devices/ORL-M3/power', { on: true });
  await rig.until('it answers', async () => (await rig.hop('device', 'ORL-M3'))?.state === 'answering', 30_000);
  await rig.until('its values are good', async () => (await latest('ORL-M3', 'IR 0'))?.quality === 0);
});

test('history keeps changes, not polls', async () => {
  const [{ count }] = await rig.sql`
    select count(*)::int as count from reading join point_identity on id = point_id
    where device = 'FNK-FC' and address = 'IR 40'`;
  expect(count).toBe(1);
});
