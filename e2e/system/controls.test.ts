import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, test } from 'vitest';
import { Rig } from '../rig/rig.ts';

let rig: Rig;
let breaker: number;
beforeAll(async () => {
  rig = await (await Rig.make('controls', inject('postgres'))).start();
  breaker = await rig.pointId('output', 0);
  await rig.until(
    'the centre asks',
    async () => (await rig.bench<unknown[]>('GET', '/centres/QST/points')).length === 80,
  );
});
afterAll(() => rig.stop());
beforeEach(async () => {
  await rig.release('binary', 6);
  if ((await rig.relayPoint('binary', 0)).value === 0) await ended(await order('close'));
});

const operations = async (): Promise<number> =>
  (await rig.bench<{ operations: number }>('GET', '/devices/HLM-F1')).operations;

/** Inserts a command row as the web does. */
async function order(
  operation: string,
  { mode = 'selectOperate', id = randomUUID() as string, expiresIn = 10_000 } = {},
): Promise<string> {
  const now = Date.now();
  await rig.sql`
    insert into command (id, point_id, device, address, operation, mode, on_ms, off_ms, count, requested_by, state, requested, expires)
    values (${id}, ${breaker}, 'HLM-F1', 'BO 0', ${operation}, ${mode}, 500, 250, 1, 'test', 'requested',
      ${new Date(now)}, ${new Date(now + expiresIn)}) on conflict do nothing`;
  await rig.sql.notify('halvix_command', id);
  return id;
}

async function ended(id: string): Promise<Record<string, unknown>> {
  await rig.until(
    'command ended',
    async () => (await rig.sql`select 1 from command where id = ${id} and ended is not null`).length === 1,
  );
  const [row] = await rig.sql`select * from command where id = ${id}`;
  return row;
}

describe('from here', () => {
  test.each(['selectOperate', 'direct'])(
    'trip by %s opens the breaker, and the feedback point confirms it',
    async (mode) => {
      const before = await operations();
      const row = await ended(await order('trip', { mode }));
      expect(row).toMatchObject({ state: 'confirmed', status: 0 });
      expect(row.words).toContain('Breaker 52A: open');
      const times = ['requested', 'sent', ...(mode === 'direct' ? [] : ['selected']), 'operated', 'confirmed'].map(
        (step) => new Date(row[step] as string).getTime(),
      );
      expect([...times].sort((a, b) => a - b)).toEqual(times);
      expect((await rig.relayPoint('binary', 0)).value).toBe(0);
      expect(await operations()).toBe(before + 1);
      await rig.until(
        'currents are zero at the centre',
        async () => (await rig.centrePoint('QST', 'analog', 0))?.value === 0,
      );
      expect((await rig.relayPoint('analog', 7)).value).toBeGreaterThan(30_000);
    },
  );

  test('without an answer the feedback point alone decides', async () => {
    const row = await ended(await order('trip', { mode: 'directNoAnswer' }));
    expect(row).toMatchObject({ state: 'confirmed', operated: null });
    await rig.force('binary', 6, 0);
    const refused = order('close', { mode: 'directNoAnswer' });
    expect(await ended(await refused)).toMatchObject({ state: 'unconfirmed' });
    expect((await ended(await refused)).words).toContain('sent without asking for an answer, but Breaker 52A');
  });

  test('in local the refusal carries the status of the relay', async () => {
    await rig.force('binary', 6, 0);
    expect(await ended(await order('trip'))).toMatchObject({
      state: 'refused',
      status: 7,
      words: 'the device is in local',
    });
    expect((await rig.relayPoint('binary', 0)).value).toBe(1);
  });

  test('the same command twice is one command', async () => {
    const before = await operations();
    const id = randomUUID();
    await Promise.all([order('trip', { id }), order('trip', { id }), order('trip', { id })]);
    await ended(id);
    await rig.sql.notify('halvix_command', id);
    await new Promise((resolve) => setTimeout(resolve, 1500));
    expect(await operations()).toBe(before + 1);
  });

  test('an expired command is not sent', async () => {
    const before = await operations();
    expect(await ended(await order('trip', { expiresIn: -1 }))).toMatchObject({ state: 'expired', sent: null });
    expect(await operations()).toBe(before);
  });

  test('a command that waits while the engine is away expires; one that was taken is never sent again', async () => {
    const before = await operations();
    await rig.system.kill('engine');
    const waiting = await order('trip', { expiresIn: 500 });
    const taken = await order('trip');
    await rig.sql`update command set state = 'claimed', engine = 'engine-1', claimed = now() where id = ${taken}`;
    await new Promise((resolve) => setTimeout(resolve, 600));
    await rig.startEngine();
    expect(await ended(taken)).toMatchObject({ state: 'interrupted' });
    expect(await ended(waiting)).toMatchObject({ state: 'expired', sent: null });
    expect(await operations()).toBe(before);
    await rig.until('relay answers', async () => (await rig.hop('device', 'HLM-F1')).state === 'answering');
  });
});

describe('files of the relay', () => {
  interface Asked {
    state: string;
    words: string | null;
    entries: { name: string; size: number; time: number }[] | null;
    content: Buffer | null;
  }
  const ask = async (what: string, name = '', limitMs = 15_000): Promise<Asked> => {
    const id = randomUUID();
    await rig.sql`
      insert into file_transfer (id, device, what, name, state, octets, requested_by, requested)
      values (${id}, 'HLM-F1', ${what}, ${name}, 'requested', 0, 'test', now())`;
    await rig.sql.notify('halvix_request', JSON.stringify({ type: 'file', id }));
    const row = async (): Promise<Asked> => (await rig.sql<Asked[]>`select * from file_transfer where id = ${id}`)[0];
    await rig.until('it is done', async () => ['done', 'failed'].includes((await row()).state), limitMs);
    return row();
  };

  test('a trip leaves a record; it is listed, fetched whole while polls go on, and deleted', async () => {
    const before = (await ask('directory')).entries ?? [];
    expect(before.map(({ name }) => name)).toContain('REC00001.CFG');
    const at = Date.now();
    await ended(await order('trip'));
    const after = (await ask('directory')).entries ?? [];
    const made = after.filter(({ name }) => !before.some((one) => one.name === name));
    expect(made.map(({ name }) => name.slice(-4)).sort()).toEqual(['.CFG', '.DAT']);
    for (const { time } of made) expect(Math.abs(time - at)).toBeLessThan(10_000);
    const data = made.find(({ name }) => name.endsWith('.DAT')) ?? made[0];
    const fetched = await ask('readFile', data.name);
    expect(fetched).toMatchObject({ state: 'done', words: null });
    expect(fetched.content?.length).toBe(data.size);
    const lines = fetched.content?.toString('latin1').trimEnd().split('\r\n') ?? [];
    expect(lines).toHaveLength(240);
    expect(lines.map((line) => Number(line.split(',')[0]))).toEqual(lines.map((_, i) => i + 1));
    expect((await rig.hop('device', 'HLM-F1')).state).toBe('answering');
    expect(await ask('deleteFile', data.name)).toMatchObject({ state: 'done' });
    expect(await ask('readFile', data.name)).toMatchObject({
      state: 'failed',
      words: `${data.name}: there is no such file`,
    });
  });

  test('asked of a device that is away, it fails and says so', async () => {
    await rig.power(false);
    await rig.until('relay is silent', async () => (await rig.hop('device', 'HLM-F1')).state === 'silent');
    expect(await ask('directory')).toMatchObject({ state: 'failed', words: 'the device does not answer' });
    await rig.power(true);
    await rig.until('relay answers', async () => (await rig.hop('device', 'HLM-F1')).state === 'answering', 30_000);
  });
});

interface Step {
  step: string;
  status?: number;
}
const fromCentre = (body: object): Promise<Step[]> => rig.bench('POST', '/centres/QST/controls', { index: 0, ...body });

describe('from the centre', () => {
  beforeAll(() =>
    rig.until(
      'the centre is back',
      // Its state outlives the engine that was just killed; its connection does not.
      async () => (await rig.bench<{ connected: boolean }>('GET', '/centres/QST')).connected,
    ),
  );

  test('a control goes through to the relay, and its status comes back', async () => {
    const before = await operations();
    const steps = await fromCentre({ operation: 'trip' });
    expect(steps.map(({ step }) => step)).toEqual(['selectSent', 'selected', 'operateSent', 'operated']);
    expect(await operations()).toBe(before + 1);
    await rig.until('the status point follows', async () => (await rig.centrePoint('QST', 'binary', 0))?.value === 0);
    const rows = await rig.sql`select mode, state, requested_by from command where outbound = 'QST' order by requested`;
    expect(rows.map(({ mode }) => mode as string)).toEqual(['selectOnly', 'selectOperate']);
  });

  test('what the relay refuses is refused with its own status', async () => {
    await rig.force('binary', 6, 0);
    expect((await fromCentre({ operation: 'trip' })).at(-1)).toMatchObject({ step: 'refused', status: 7 });
    expect((await fromCentre({ operation: 'trip', mode: 'direct' })).at(-1)).toMatchObject({
      step: 'refused',
      status: 7,
    });
    await rig.release('binary', 6);
    expect((await fromCentre({ operation: 'pulseOn', mode: 'direct' })).at(-1)).toMatchObject({
      step: 'refused',
      status: 4,
    });
  });

  test('nothing is claimed while the relay is away', async () => {
    await rig.power(false);
    expect((await fromCentre({ operation: 'trip', mode: 'direct' })).at(-1)).toMatchObject({
      step: 'refused',
      status: 18,
    });
    await rig.power(true);
    await rig.until('relay answers', async () => (await rig.hop('device', 'HLM-F1')).state === 'answering');
  });
});
