import { OBJECT_SCHEMAS, type LinkConfig } from '@halvix/core/config';
import {
  Outstation,
  outstationSettings,
  type OutstationCommand,
  type OutstationEffect,
} from '@halvix/core/protocols/dnp3';
import type { ProbeRequest, ProbeResult, ProbeState } from '@halvix/core/path';
import { clock, Driver } from '@halvix/wire';
import { createServer } from 'node:net';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { Closers, freePort, terminals, until } from '../testing/wires.ts';

const table = vi.hoisted(() => ({
  probes: new Map<string, { request: unknown; requestedBy: string }>(),
  written: [] as { id: string; state: ProbeState; result: ProbeResult }[],
  fails: false,
  closed: null as string | null,
  whileClaiming: null as (() => void) | null,
}));
vi.mock('@halvix/db', () => ({
  claimProbe: async (_database: unknown, id: string) => {
    if (table.fails) throw new Error('away');
    table.whileClaiming?.();
    const probe = table.probes.get(id) ?? null;
    table.probes.delete(id);
    return probe;
  },
  openedTry: async (_database: unknown, request: unknown) => ({ request, problem: table.closed }),
  noteProbe: async (_database: unknown, id: string, state: ProbeState, result: ProbeResult) =>
    void table.written.push({ id, state, result }),
}));
const { Probes } = await import('./probes.ts');

const closers = new Closers();
let device: Record<string, unknown>;
let probes: InstanceType<typeof Probes>;
beforeEach(() => {
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(table, { written: [], fails: false, closed: null, whileClaiming: null });
  table.probes.clear();
  device = {};
  const devices = new Map([['D', device as never]]);
  probes = new Probes({ database: {} as never, engine: 'engine-1', devices: () => devices });
});
afterEach(async () => {
  vi.useRealTimers();
  probes.stop();
  await closers.close();
  vi.restoreAllMocks();
});

const linkOf = (more: object): LinkConfig =>
  OBJECT_SCHEMAS.link.parse({ code: 'L', name: 'link', type: 'tcpClient', connectTimeoutMs: 500, ...more });
const tried = (link: object, settings: object = {}): unknown => ({
  type: 'try',
  link: linkOf(link),
  device: { protocol: 'dnp3', settings: { ourAddress: 1, theirAddress: 21, responseTimeoutMs: 300, ...settings } },
});
function ask(id: string, request: unknown): Promise<void> {
  table.probes.set(id, { request: request as ProbeRequest, requestedBy: 'ada' });
  return probes.begin(id);
}
const last = (id = 'p'): { state: ProbeState; result: ProbeResult } => table.written.findLast((one) => one.id === id)!;
const isWritten = (id = 'p'): boolean => table.written.some((one) => one.id === id);
const steps = (id = 'p'): string[] => last(id).result.steps.map(({ step, state }) => `${step} ${state}`);

/** Answers as a device would. */
async function outstation(address = 21): Promise<number> {
  const port = await freePort();
  const server = createServer((socket) => {
    const settings = outstationSettings.parse({ ourAddress: address, theirAddress: 1 });
    const driver: Driver<OutstationCommand, OutstationEffect> = new Driver(
      new Outstation(settings, [], clock.now()),
      (effect) => effect.type === 'send' && socket.write(effect.octets),
    );
    socket.on('data', (octets) => driver.receive(octets));
    socket.on('error', () => {});
    socket.on('close', () => driver.close());
    driver.start();
  }).listen(port, '127.0.0.1');
  closers.push(() => server.close());
  return port;
}

describe('a try', () => {
  test('of a device that answers is good, step by step', async () => {
    const port = await outstation();
    await ask('p', tried({ host: '127.0.0.1', port }));
    expect(last().state).toBe('good');
    expect(steps().slice(0, 2)).toEqual(['resolve good', 'connect good']);
    expect(steps().length).toBeGreaterThan(3);
    const [resolved, connected] = last().result.steps;
    expect(resolved.words).toBe('127.0.0.1 is an address');
    expect(connected.words).toMatch(/^connected to .*127\.0\.0\.1.* after \d+ ms$/);
    // Each step was written while it went on.
    expect(table.written.map(({ state }) => state).slice(0, -1)).not.toContain('good');
    expect(table.written[0].result.steps).toHaveLength(1);
  });

  test('a name is looked up, and the words say what it is', async () => {
    const port = await outstation();
    await ask('p', tried({ host: 'localhost', port }));
    expect(last().result.steps[0].words).toMatch(/^localhost is (127\.0\.0\.1|::1)$/);
  });

  test('a name that nobody knows ends it there', async () => {
    await ask('p', tried({ host: 'nowhere.invalid', port: 1 }));
    expect(last().state).toBe('bad');
    expect(steps()).toEqual(['resolve bad']);
    expect(last().result.steps[0].meaning).toMatch(/^The name is not in the name service/);
  });

  test('where nothing listens, the words say what that usually means, with the protocol by name', async () => {
    await ask('p', tried({ host: '127.0.0.1', port: await freePort() }));
    expect(last().state).toBe('bad');
    expect(steps()).toEqual(['resolve good', 'connect bad']);
    expect(last().result.steps[1].meaning).toBe(
      'The host is there, but nothing listens on that port: wrong port, or DNP3 is switched off on the device.',
    );
  });

  test('a connection that stands, and nobody who answers on it', async () => {
    const port = await outstation(99);
    await ask('p', tried({ host: '127.0.0.1', port }));
    expect(last().state).toBe('bad');
    expect(steps().slice(0, 2)).toEqual(['resolve good', 'connect good']);
    expect(steps().at(-1)).toMatch(/ bad$/);
  });

  test('of a device that calls us goes nowhere', async () => {
    await ask('p', tried({ type: 'tcpServer', port: 20_000 }));
    expect(last().state).toBe('bad');
    expect(last().result.steps).toMatchObject([
      { step: 'connect', state: 'bad', words: 'this device calls us: there is nowhere to connect to' },
    ]);
  });

  test('on a serial port nothing is looked up', async () => {
    const { ours } = await terminals(closers);
    const under = ask('p', tried({ type: 'serial', serialPort: ours, line: { bitRate: 9600 } }));
    await until('it is tried', () => table.written.length > 1);
    expect(steps()[0]).toMatch(/^connect /);
    probes.cancel('p');
    await under;
    expect(last().state).toBe('cancelled');
  });

  test('for which a secret is needed that cannot be had speaks with nobody, and says why', async () => {
    table.closed = 'Password: it is kept sealed';
    await ask('p', tried({ host: '127.0.0.1', port: await outstation() }));
    expect(last()).toMatchObject({ state: 'bad', result: { problem: 'Password: it is kept sealed', steps: [] } });
  });

  test('that is cancelled while it is being taken up does nothing', async () => {
    const port = await outstation();
    table.whileClaiming = () => probes.cancel('p');
    await ask('p', tried({ host: '127.0.0.1', port }));
    expect(table.written.map(({ state }) => state)).toEqual(['cancelled']);
    expect(steps()).toEqual([]);
  });

  test('that is cancelled ends at once, and its connection with it', async () => {
    let gone = 0;
    const port = await freePort();
    const server = createServer((socket) => {
      socket.resume();
      socket.on('error', () => {});
      socket.on('close', () => gone++);
    }).listen(port, '127.0.0.1');
    closers.push(() => server.close());
    const under = ask('p', tried({ host: '127.0.0.1', port }, { responseTimeoutMs: 30_000 }));
    await until('it is connected', () => isWritten() && steps().includes('connect good'));
    probes.cancel('p');
    await under;
    expect(last().state).toBe('cancelled');
    await until('the connection is closed', () => gone === 1);
  });
});

describe('a survey', () => {
  test('brings what the device has', async () => {
    const found = [{ kind: 'analog', at: { protocol: 'dnp3', index: 4 } }];
    device.survey = async () => ({ found, attributes: [{ words: 'Maker', value: 'x' }], problem: null });
    await ask('p', { type: 'survey', device: 'D' });
    expect(last()).toMatchObject({
      state: 'good',
      result: { surveyed: found, attributes: [{ words: 'Maker', value: 'x' }], problem: null },
    });
  });

  test('with a problem is bad, and says it', async () => {
    device.survey = async () => ({ found: [], attributes: [], problem: 'it refused' });
    await ask('p', { type: 'survey', device: 'D' });
    expect(last()).toMatchObject({ state: 'bad', result: { problem: 'it refused' } });
  });

  test('of a device that does not run', async () => {
    await ask('p', { type: 'survey', device: 'E' });
    expect(last()).toMatchObject({ state: 'bad', result: { problem: 'E does not run: apply it first' } });
  });

  test('is waited for a minute, no longer', async () => {
    vi.useFakeTimers();
    device.survey = () => new Promise(() => {});
    const under = ask('p', { type: 'survey', device: 'D' });
    await vi.advanceTimersByTimeAsync(59_999);
    expect(table.written).toEqual([]);
    await vi.advanceTimersByTimeAsync(1);
    await under;
    expect(last()).toMatchObject({ state: 'bad', result: { problem: 'no complete answer in 60 s' } });
  });

  test('that nobody waits for any more is cancelled', async () => {
    device.survey = () => new Promise(() => {});
    const under = ask('p', { type: 'survey', device: 'D' });
    await new Promise((resolve) => setImmediate(resolve));
    probes.cancel('other');
    probes.cancel('p');
    await under;
    expect(last().state).toBe('cancelled');
  });
});

describe('a question beyond points', () => {
  test('is asked in the name of who asks, and its answer kept as rows', async () => {
    const asked = vi.fn(async () => ({
      problem: null,
      answer: {
        words: 'two of them',
        tables: [
          {
            ...{ title: 'Files', columns: ['Name'] },
            rows: [
              { cells: ['a'] },
              {
                cells: ['b'],
                asks: [{ words: 'Read', order: { type: 'x' }, fields: [{ name: 'n', limits: [1, 9] }, { name: 'm' }] }],
              },
            ],
          },
        ],
      },
    }));
    device.inquire = asked;
    await ask('p', { type: 'ask', device: 'D', order: { type: 'x' } });
    expect(asked).toHaveBeenCalledWith({ type: 'x' }, 'ada');
    expect(last()).toMatchObject({ state: 'good', result: { problem: null } });
    expect(last().result.answered).toEqual({
      words: 'two of them',
      tables: [
        {
          ...{ title: 'Files', columns: ['Name'] },
          rows: [
            { cells: ['a'], asks: [] },
            {
              cells: ['b'],
              asks: [
                {
                  ...{ words: 'Read', order: { type: 'x' } },
                  fields: [
                    { name: 'n', limits: [1, 9] },
                    { name: 'm', limits: undefined },
                  ],
                },
              ],
            },
          ],
        },
      ],
    });
  });

  test('without words and tables is an empty answer', async () => {
    device.inquire = async () => ({ problem: 'refused', answer: {} });
    await ask('p', { type: 'ask', device: 'D', order: { type: 'x' } });
    expect(last()).toMatchObject({ state: 'bad', result: { problem: 'refused', answered: { words: '', tables: [] } } });
    await ask('q', { type: 'ask', device: 'E', order: { type: 'x' } });
    expect(last('q')).toMatchObject({ state: 'bad', result: { problem: 'E does not run: apply it first' } });
  });

  test('is waited for a minute, no longer', async () => {
    vi.useFakeTimers();
    device.inquire = () => new Promise(() => {});
    const under = ask('p', { type: 'ask', device: 'D', order: { type: 'x' } });
    await vi.advanceTimersByTimeAsync(60_000);
    await under;
    expect(last()).toMatchObject({ state: 'bad', result: { problem: 'no complete answer in 60 s' } });
  });
});

describe('a point that plays', () => {
  const plays = () => {
    const ends = new Map<string, (why: string | null) => void>();
    const began: unknown[] = [];
    device.plays = {
      begin: (point: string, play: unknown, { id, by, ended }: never) => {
        began.push([point, play, id, by]);
        if (point === 'AI 9') return 'no such point';
        ends.set(id, ended);
        return null;
      },
      end: (id: string) => ends.get(id)?.(null),
    };
    return { ends, began };
  };
  const play = (point = 'AI 0'): unknown => ({ type: 'play', device: 'D', point, play: { shape: 'sine' } });

  test('plays until it is cancelled', async () => {
    const { began } = plays();
    const under = ask('p', play());
    await until('it plays', () => began.length === 1);
    expect(began[0]).toEqual(['AI 0', { shape: 'sine' }, 'p', 'ada']);
    probes.cancel('p');
    await under;
    expect(last()).toMatchObject({ state: 'cancelled', result: { problem: null } });
  });

  test('ends with why it cannot go on, or cannot begin', async () => {
    const { ends, began } = plays();
    const under = ask('p', play());
    await until('it plays', () => began.length === 1);
    ends.get('p')!('the device was taken off test');
    await under;
    expect(last()).toMatchObject({ state: 'bad', result: { problem: 'the device was taken off test' } });
    await ask('q', play('AI 9'));
    expect(last('q')).toMatchObject({ state: 'bad', result: { problem: 'no such point' } });
    await ask('r', { ...(play() as object), device: 'E' });
    expect(last('r').result.problem).toBe('E does not run: apply it first');
  });

  test('keeps nobody else waiting, however many do; of others eight go on at a time', async () => {
    const { began } = plays();
    for (let i = 0; i < 12; i++) void ask(`play ${i}`, play());
    await until('all play', () => began.length === 12);
    const surveys: (() => void)[] = [];
    device.survey = () =>
      new Promise((resolve) => surveys.push(() => resolve({ found: [], attributes: [], problem: null })));
    const under = Array.from({ length: 9 }, (_, i) => ask(`survey ${i}`, { type: 'survey', device: 'D' }));
    await until('eight ask', () => surveys.length >= 8);
    await under[8];
    probes.cancel('survey 8');
    await until('it is cancelled', () => isWritten('survey 8'));
    expect(last('survey 8').state).toBe('cancelled');
    const later = ['a', 'b'].map((id) => ask(id, { type: 'survey', device: 'D' }));
    await Promise.all(later);
    expect(surveys).toHaveLength(8);
    surveys[0]();
    await until('the next one asks', () => surveys.length === 9);
    for (let i = 1; i < 10; i++) await until('it asks', () => surveys.length > i).then(() => surveys[i]());
    await until('all are done', () => isWritten('a') && isWritten('b'));
    await Promise.all(under);
    expect([...'ab'].map((id) => last(id).state)).toEqual(['good', 'good']);
  });
});

test('what another engine took is left to it, and a database that is away is no reason to stop', async () => {
  await probes.begin('unknown');
  table.fails = true;
  await probes.begin('p');
  expect(table.written).toEqual([]);
});
