import { configurationSchema, type Configuration } from '@halvix/core/config';
import { Quality, type Reading } from '@halvix/core/point';
import { clientSide, serverSide } from '@halvix/core/protocols/sessions';
import type { AppliedRevision, ClosedSecret, OwedEvent } from '@halvix/db';
import { createServer, type Server, type Socket } from 'node:net';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { freePort, until } from './testing/wires.ts';

/* What applying a change does to what runs: real sessions on real sockets, with tables in memory in place of the database. */

const base = vi.hoisted(() => ({
  revision: null as AppliedRevision | null,
  reads: 0,
  latest: new Map<number, unknown>(),
  kept: new Map<string, Uint8Array>(),
  outboundNumbers: new Map<string, number>(),
  forgotten: [] as number[][],
  hops: new Map<string, string[]>(),
  written: [] as { kind: string; code: string; document: string }[],
  readings: [] as { pointId: number; value: number }[],
  lastOwed: 0,
  told: [] as OwedEvent[],
  claimed: [] as object[],
  closed: [] as ClosedSecret[],
}));
vi.mock('@halvix/db', async (original) => {
  const real = await original<typeof import('@halvix/db')>();
  const nothing = async (): Promise<unknown[]> => [];
  return {
    ...{ RefusedReadings: real.RefusedReadings, PointNumbers: real.PointNumbers },
    newestRevisionId: async () => base.revision?.id ?? null,
    withOpenSecrets: async (_database: unknown, configuration: object) => ({ configuration, closed: base.closed }),
    newestRevision: async () => {
      base.reads++;
      return base.revision;
    },
    pointNumbers: async () => {
      const numbers = new real.PointNumbers();
      for (const [d, code] of ['A', 'B', 'C', 'RENAMED'].entries())
        for (let i = 0; i < 4; i++) numbers.add(code, `AI ${i}`, 1 + (d % 3) * 10 + i);
      numbers.add('SUP', 'comm A', 90);
      return numbers;
    },
    outboundNumbers: async () => base.outboundNumbers,
    latestOf: async (_database: unknown, ids: number[]) =>
      new Map(ids.flatMap((id) => (base.latest.has(id) ? [[id, base.latest.get(id)] as const] : []))),
    keptOf: async (_database: unknown, devices: string[]) =>
      new Map(devices.flatMap((code) => (base.kept.has(code) ? [[code, base.kept.get(code)!] as const] : []))),
    forgetOutbounds: async (_database: unknown, kept: number[]) => void base.forgotten.push(kept),
    keepHopStates: async (_database: unknown, _engine: string, kind: string, codes: string[]) =>
      void base.hops.set(kind, codes),
    writeHopStates: async (_database: unknown, _engine: string, states: typeof base.written) =>
      void base.written.push(...states),
    storeBatch: async (_database: unknown, { readings }: { readings: typeof base.readings }) => {
      base.readings.push(...readings);
      return 'stored';
    },
    settledOf: async () => new Map(),
    lastOwedRow: async () => 0,
    lastOwed: async () => base.lastOwed,
    newestOwed: async () => base.told,
    keptPieces: nothing,
    ...Object.fromEntries(
      ['writeLatest', 'writeTrails', 'writeJournal', 'notify', 'addKept', 'storeSettled', 'dropSettled'].map((name) => [
        name,
        nothing,
      ]),
    ),
    ...{ owedBehind: nothing, expireCommands: async () => 0 },
    claimCommands: async () => base.claimed.splice(0),
  };
});
const { OutboundRunner } = await import('./centres/outbound.ts');
const { OutboundKeeper } = await import('./handon/outboundkeeper.ts');
const { Runtime } = await import('./runtime.ts');

let port: number;
let centrePort: number;
let server: Server;
let sockets: Set<Socket>;
let runtime: InstanceType<typeof Runtime>;
let revisions: number;

beforeEach(async () => {
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(base, {
    revision: null,
    reads: 0,
    forgotten: [],
    written: [],
    readings: [],
    lastOwed: 0,
    told: [],
    closed: [],
  });
  base.latest.clear();
  base.kept.clear();
  base.hops.clear();
  base.outboundNumbers = new Map([
    ['Q', 1],
    ['R', 2],
  ]);
  revisions = 0;
  sockets = new Set();
  port = await freePort();
  centrePort = await freePort();
  server = createServer((socket) => {
    sockets.add(socket);
    socket.resume();
    socket.on('error', () => {});
    socket.on('close', () => sockets.delete(socket));
  }).listen(port, '127.0.0.1');
  runtime = make();
});
afterEach(async () => {
  vi.restoreAllMocks();
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  await runtime.stop();
  for (const socket of sockets) socket.destroy();
  server.close();
  vi.restoreAllMocks();
});

const make = (keeps = new Map<string, Uint8Array>()): InstanceType<typeof Runtime> => {
  const database = {} as never;
  const writer = { run: 'run 1', keeps, fenced: () => {}, refused: () => {}, file: null };
  return new Runtime(database, database, database, 'engine-1', writer, { files: null } as never);
};

// Documents before they are read.
/* eslint-disable @typescript-eslint/no-explicit-any */
const document = (): any => ({
  ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [{ code: 'S', name: 'Station' }] },
  links: [
    ...['L', 'M'].map((code) => ({ code, name: code, type: 'tcpClient', host: '127.0.0.1', port })),
    { code: 'O', name: 'centres', type: 'tcpServer', port: centrePort },
  ],
  devices: [
    ['A', 'L', 21],
    ['B', 'M', 22],
  ].map(([code, link, theirAddress]) => ({
    ...{ code, name: code, station: 'S', link, protocol: 'dnp3' },
    settings: { ourAddress: 1, theirAddress },
    points: [0, 1].map((index) => ({ kind: 'analog', at: { protocol: 'dnp3', index }, name: `point ${index}` })),
  })),
  outbounds: [
    ['Q', 10, 'A'],
    ['R', 11, 'B'],
  ].map(([code, ourAddress, device]) => ({
    ...{ code, name: code, centre: 'Quillstone', link: 'O', protocol: 'dnp3' },
    settings: { ourAddress, theirAddress: 100 },
    mappings: [
      {
        ...{ device, point: 'AI 0' },
        target: {
          kind: 'analog',
          at: { protocol: 'dnp3', index: 0, eventClass: 1, staticVariation: 1, eventVariation: 3 },
          value: 'engineering',
        },
      },
    ],
  })),
});
async function apply(change: (c: any) => void = () => {}, deviceIds: object = { A: 1, B: 2 }): Promise<Configuration> {
  const given = document();
  change(given);
  const configuration = configurationSchema.parse(given);
  base.revision = { id: ++revisions, configuration, deviceIds } as AppliedRevision;
  await runtime.apply();
  return configuration;
}
/** What runs now, by which one sees afterwards what went on. */
const running = () => ({
  devices: new Map(runtime.devices),
  links: new Map(runtime.links),
  outbounds: new Map(runtime.outbounds),
  ways: new Map([...runtime.outbounds].map(([code, { link }]) => [code, link])),
});
/** Codes of what runs and is not the same as before. */
function begun(before: ReturnType<typeof running>): string[] {
  const now = running();
  const fresh = <Thing>(had: Map<string, Thing>, has: Map<string, Thing>): string[] =>
    [...has].flatMap(([code, thing]) => (had.get(code) === thing ? [] : code));
  const ways = fresh(before.ways, now.ways).map((code) => `way of ${code}`);
  return [
    ...fresh(before.devices, now.devices),
    ...fresh(before.links, now.links),
    ...fresh(before.outbounds, now.outbounds),
    ...ways,
  ];
}
const reading = (value: number): Reading => ({
  ...{ raw: value, value, quality: 0, time: Date.now(), timeSource: 'device', received: Date.now(), cause: 'event' },
});

describe('a secret that cannot be had', () => {
  const closedFor = (kind: ClosedSecret['kind'], code: string): void =>
    void (base.closed = [{ kind, code, words: 'Password: it is kept sealed' }]);
  const stateOf = (code: string): string => {
    const { state, words } = runtime.devices.get(code)!.deviceState();
    return `${state}: ${words}`;
  };

  test('leaves its device alone, which says why; controls of it fail at once; all others are asked', async () => {
    closedFor('device', 'A');
    await apply();
    await until('the other one is called', () => sockets.size > 0);
    expect(stateOf('A')).toBe('silent: Password: it is kept sealed');
    expect(runtime.devices.get('A')!.standing().failed).toBe(true);
    expect(runtime.devices.get('B')!.deviceState().state).toBe('unknown');
    const progress = vi.spyOn(runtime.commands, 'onProgress');
    runtime.devices.get('A')!.control({ type: 'control', id: 'c', expires: Date.now() + 5000 } as never);
    expect(progress.mock.calls).toEqual([
      [{ type: 'control', id: 'c', step: 'failed', words: 'Password: it is kept sealed' }],
    ]);
    expect(await runtime.devices.get('A')!.survey('s')).toMatchObject({
      found: [],
      problem: 'Password: it is kept sealed',
    });
  });

  test('of a link leaves all on it alone', async () => {
    closedFor('link', 'M');
    await apply();
    expect(stateOf('B')).toBe('silent: Password: it is kept sealed');
    expect(runtime.devices.get('A')!.held).toBeNull();
  });

  test('keeps its centre away, and the outbound says why', async () => {
    closedFor('outbound', 'Q');
    await apply();
    const state = runtime.outbounds.get('Q')!.state();
    expect(state).toMatchObject({ state: 'failed', problem: 'Password: it is kept sealed' });
    expect(state.lastProblem?.words).toBe('Password: it is kept sealed');
    await until('the other one listens', () => runtime.outbounds.get('R')!.state().problem === null);
  });

  test('that can be had again, or is not needed any more, begins the conversation', async () => {
    base.closed = [
      { kind: 'device', code: 'A', words: 'why' },
      { kind: 'outbound', code: 'Q', words: 'why' },
    ];
    await apply();
    const before = running();
    base.closed = [];
    await apply();
    expect(begun(before)).toEqual(expect.arrayContaining(['A', 'Q']));
    expect(begun(before)).not.toContain('B');
    expect([runtime.devices.get('A')!.held, runtime.outbounds.get('Q')!.held]).toEqual([null, null]);
    await until('it listens', () => runtime.outbounds.get('Q')!.state().problem === null);
  });
});

describe('a first revision', () => {
  test('all of it runs: devices on their links, centres on theirs', async () => {
    await apply();
    expect([...runtime.devices.keys()]).toEqual(['A', 'B']);
    expect([...runtime.links.keys()]).toEqual(['L', 'M']);
    expect([...runtime.outbounds.keys()]).toEqual(['Q', 'R']);
    expect(runtime.outbounds.get('Q')!.link).toBe(runtime.outbounds.get('R')!.link);
    expect(runtime.revision).toBe(1);
    expect(base.forgotten).toEqual([[1, 2]]);
    expect(Object.fromEntries(base.hops)).toEqual({
      ...{ link: ['L', 'M', 'O'], lane: ['L', 'M', 'O'], device: ['A', 'B'], outbound: ['Q', 'R'] },
      detail: ['A', 'B', 'outbound Q', 'outbound R'].map((code) => (code.length > 1 ? expect.any(String) : code)),
    });
    await until('both are called', () => sockets.size === 2);
  });

  test('their states are published, and what the engine says of itself', async () => {
    await apply();
    await until('states are written', () => base.written.length >= 8);
    const kinds = base.written.map(({ kind, code }) => `${kind} ${code}`);
    for (const one of ['device A', 'device B', 'link L', 'link M', 'link O', 'outbound Q', 'outbound R'])
      expect(kinds).toContain(one);
    const engine = JSON.parse(base.written.find(({ kind }) => kind === 'engine')!.document);
    expect(engine).toMatchObject({ revision: 1, queuedReadings: 0, droppedReadings: 0, historyProblem: null });
  });

  test('what was known of points is there at once, marked as without communication', async () => {
    base.latest.set(1, reading(42));
    await apply();
    const point = runtime.exchange.at('A', 'AI 0')!;
    expect(point.reading).toMatchObject({ value: 42 });
    expect(point.reading!.quality & Quality.commLost).toBeTruthy();
    expect(runtime.exchange.at('A', 'AI 1')!.reading).toBeNull();
  });

  test('sessions begin with what they had kept: given at the start, or found in the database', async () => {
    const made = vi.spyOn(clientSide('dnp3'), 'make');
    base.kept.set('B', Uint8Array.of(2));
    await runtime.stop();
    runtime = make(new Map([['A', Uint8Array.of(1)]]));
    await apply();
    expect(made.mock.calls.map(([, , , { remembered }]) => [...(remembered ?? [])])).toEqual([[1], [2]]);
  });

  test('a device that is drafted, or out of service, does not run; of the latter the points are there', async () => {
    base.latest.set(11, reading(7));
    await apply((c) => {
      c.devices[0].life = 'drafted';
      c.devices[1].life = 'outOfService';
    });
    expect([...runtime.devices.keys()]).toEqual([]);
    expect(runtime.exchange.devices()).toEqual(['B']);
    expect(runtime.exchange.at('B', 'AI 0')!.reading).toMatchObject({ value: 7, quality: Quality.outOfService });
    expect(base.hops.get('device')).toEqual([]);
  });

  test('an outbound begins behind the last number that it gave, and with what was told last', async () => {
    const made = vi.spyOn(serverSide('dnp3'), 'make');
    base.lastOwed = 77;
    await apply();
    expect(JSON.stringify(made.mock.calls)).toContain('"lastNumber":77');
  });
});

/** A device without a link, which tells whether another one answers. */
const withSource = (c: any): unknown =>
  c.devices.push({
    ...{ code: 'SUP', name: 'Communication', station: 'S', link: '', protocol: 'supervision', settings: {} },
    points: [{ kind: 'binary', at: { protocol: 'supervision', of: 'device', code: 'A' }, name: 'A answers' }],
  });

describe('what has no link', () => {
  test('tells what is known here, goes on while nothing of it changes, and ends when it is taken out', async () => {
    await apply(withSource, { A: 1, B: 2, SUP: 3 });
    const told = () => runtime.exchange.at('SUP', 'comm A')?.reading ?? null;
    await until('it says that nothing is known yet', () => told() !== null);
    vi.spyOn(runtime.devices.get('A')!, 'standing').mockReturnValue({ failed: true, since: Date.now() });
    await until('it says that A is away', () => told()?.raw === 1);
    await until('it is stored', () => base.readings.some(({ pointId, value }) => pointId === 90 && value === 1));
    await apply((c) => void (withSource(c), (c.devices[1].name = 'other')), { A: 1, B: 2, SUP: 3 });
    vi.spyOn(runtime.devices.get('A')!, 'standing').mockReturnValue({ failed: false, since: Date.now() });
    await until('it goes on', () => told()?.raw === 0);
    await apply();
    expect(told()).toBeNull();
  });
});

test('an outbound is told which of its events are committed, each its own', async () => {
  await apply();
  const stored = ['Q', 'R'].map((code) => vi.spyOn(runtime.outbounds.get(code)!, 'stored'));
  for (const [device, value] of [
    ['A', 1],
    ['B', 2],
    ['A', 3],
  ] as const)
    runtime.exchange.put(runtime.exchange.at(device, 'AI 0')!, reading(value), null);
  await until('they are committed', () => stored.every((one) => one.mock.calls.length > 0));
  const counts = stored.map((one) => one.mock.calls.flatMap(([numbers]) => numbers).length);
  expect(counts).toEqual([2, 1]);
});

describe('another revision', () => {
  test('the same one again is not even read', async () => {
    await apply();
    const before = running();
    await runtime.apply();
    expect(base.reads).toBe(1);
    expect(begun(before)).toEqual([]);
  });

  test('names that are only shown touch nothing', async () => {
    await apply();
    const before = running();
    await apply((c) => {
      for (const thing of [...c.links, ...c.devices, ...c.outbounds]) thing.name += ' new';
    });
    expect(begun(before)).toEqual([]);
    expect(runtime.revision).toBe(2);
  });

  test('a list, and settings that a session adopts, end nothing', async () => {
    await apply();
    const before = running();
    const adopted = vi.spyOn(runtime.devices.get('A')!, 'adopt');
    const told = ['Q', 'R'].map((code) => vi.spyOn(runtime.outbounds.get(code)!, 'adopt'));
    await apply((c) => {
      c.devices[0].points.push({ kind: 'analog', at: { protocol: 'dnp3', index: 2 }, name: 'point 2' });
      c.devices[0].settings.responseTimeoutMs = 4321;
    });
    expect(begun(before)).toEqual([]);
    expect(adopted).toHaveBeenCalledOnce();
    expect(runtime.exchange.at('A', 'AI 2')).toBeDefined();
    // Of the centres only the one that has a point of that device.
    expect(told.map((one) => one.mock.calls.length)).toEqual([1, 0]);
  });

  test('a mapping is adopted by its outbound alone', async () => {
    await apply();
    const before = running();
    const told = ['Q', 'R'].map((code) => vi.spyOn(runtime.outbounds.get(code)!, 'adopt'));
    await apply((c) => (c.outbounds[1].mappings[0].target.at.index = 3));
    expect(begun(before)).toEqual([]);
    expect(told.map((one) => one.mock.calls.length)).toEqual([0, 1]);
  });

  test('another port of a link restarts what is on it, and nothing else', async () => {
    await apply();
    const before = running();
    const other = await freePort();
    await apply((c) => (c.links[1].port = other));
    expect(begun(before)).toEqual(['B', 'M']);
  });

  test('a device that begins anew goes on with what its session had kept', async () => {
    const keep = Uint8Array.of(9, 9);
    await apply();
    vi.spyOn(runtime.devices.get('A')!, 'stop').mockReturnValue(keep);
    const made = vi.spyOn(clientSide('dnp3'), 'make');
    runtime.links.get('L')!.detach('A');
    await apply((c) => (c.devices[0].settings.theirAddress = 31));
    expect(made.mock.calls.map(([, , , { code, remembered }]) => [code, remembered])).toEqual([['A', keep]]);
  });

  test('under another code it is the same device', async () => {
    const keep = Uint8Array.of(9, 9);
    await apply();
    const before = running();
    vi.spyOn(runtime.devices.get('A')!, 'stop').mockReturnValue(keep);
    const made = vi.spyOn(clientSide('dnp3'), 'make');
    runtime.links.get('L')!.detach('A');
    await apply(
      (c) => {
        c.devices[0].code = 'RENAMED';
        c.outbounds[0].mappings[0].device = 'RENAMED';
      },
      { RENAMED: 1, B: 2 },
    );
    expect(made.mock.calls.map(([, , , { code, remembered }]) => [code, remembered])).toEqual([['RENAMED', keep]]);
    expect(runtime.exchange.devices()).toEqual(['B', 'RENAMED']);
    // The link had no other device.
    expect(begun(before)).toEqual(['RENAMED', 'L']);
  });

  test('what is taken out ends, and what nobody uses any more is closed', async () => {
    await apply();
    await until('both are called', () => sockets.size === 2);
    const { ways } = running();
    const closed = vi.spyOn(ways.get('R')!, 'close');
    const forgotten = vi.spyOn(OutboundKeeper.prototype, 'forgetAllBut');
    await apply(
      (c) => {
        c.devices.pop();
        c.outbounds.pop();
      },
      { A: 1 },
    );
    expect([...runtime.devices.keys(), ...runtime.links.keys(), ...runtime.outbounds.keys()]).toEqual(['A', 'L', 'Q']);
    expect(runtime.exchange.devices()).toEqual(['A']);
    expect(closed).not.toHaveBeenCalled();
    expect(base.forgotten.at(-1)).toEqual([1]);
    expect(forgotten.mock.lastCall).toEqual([[1]]);
    await until('one is let go', () => sockets.size === 1);
    await apply((c) => {
      c.outbounds = [];
    });
    expect(closed).toHaveBeenCalledOnce();
  });

  test('a device out of service that is taken out altogether is withheld from whoever has its points', async () => {
    await apply((c) => (c.devices[1].life = 'outOfService'));
    const adopted = vi.spyOn(runtime.outbounds.get('R')!, 'adopt');
    await apply((c) => (c.devices[1].life = 'drafted'));
    expect(runtime.exchange.devices()).toEqual(['A']);
    expect([...adopted.mock.calls[0][1]]).toEqual(['B']);
  });

  test('a device taken out of service keeps its values, which say so', async () => {
    await apply();
    const point = runtime.exchange.at('B', 'AI 0')!;
    runtime.exchange.put(point, reading(5), null);
    await apply((c) => (c.devices[1].life = 'outOfService'));
    expect(runtime.devices.has('B')).toBe(false);
    expect(runtime.exchange.at('B', 'AI 0')!.reading).toMatchObject({ value: 5, quality: Quality.outOfService });
  });
});

describe('an outbound that begins anew', () => {
  const begin = async (change: (c: any) => unknown, expected = ['Q']): Promise<void> => {
    const before = running();
    await apply(change);
    expect(begun(before)).toEqual(expected);
  };

  test('goes on with what it owes; what comes meanwhile is owed too', async () => {
    await apply();
    const point = runtime.exchange.at('A', 'AI 0')!;
    const put = (value: number): void => void runtime.exchange.put(point, reading(value), null);
    put(1);
    put(2);
    const ending = runtime.outbounds.get('Q')!;
    const rest = ending.rest.bind(ending);
    vi.spyOn(ending, 'rest').mockImplementation(async () => {
      await rest();
      put(3);
    });
    const filled = vi.spyOn(OutboundRunner.prototype, 'fill');
    await begin((c) => (c.outbounds[0].settings.maxFragment = 1024));
    expect(filled.mock.calls.map(([records, last]) => [records.length, last])).toEqual([[3, true]]);
  });

  test('lets its centre go before the one that goes on in its place is there', async () => {
    await apply();
    const ending = runtime.outbounds.get('Q')!;
    const order: string[] = [];
    for (const what of ['rest', 'close'] as const) {
      const real = ending[what].bind(ending) as () => Promise<void>;
      vi.spyOn(ending, what).mockImplementation(() => {
        order.push(what);
        return real();
      });
    }
    vi.spyOn(OutboundRunner.prototype, 'begin').mockImplementation(() => void order.push('begin'));
    await begin((c) => (c.outbounds[0].settings.maxFragment = 1024));
    // At once, and with all else of it at its end.
    expect(order).toEqual(['rest', 'close', 'close', 'begin']);
  });

  test('under another code it is the same one', async () => {
    await apply();
    const ended = vi.spyOn(runtime.outbounds.get('Q')!, 'stop');
    base.outboundNumbers = new Map([
      ['NEW', 1],
      ['R', 2],
    ]);
    await begin((c) => void (c.outbounds[0].code = 'NEW'), ['NEW', 'way of NEW']);
    expect(ended).toHaveBeenCalledOnce();
    expect([...runtime.outbounds.keys()]).toEqual(['R', 'NEW']);
    expect(base.forgotten.at(-1)).toEqual([1, 2]);
  });
});

test('a destination that is on no link has a way of its own, and says why it cannot be had', async () => {
  base.outboundNumbers = new Map([...base.outboundNumbers, ['J', 3]]);
  await apply((c) =>
    c.outbounds.push({
      ...{ code: 'J', name: 'lines', centre: 'Archive', link: '', protocol: 'jsonlines' },
      ...{ settings: { file: 'lines.jsonl' }, mappings: [] },
    }),
  );
  const way = runtime.outbounds.get('J')!.link;
  expect([way.config, way.isEmpty]).toEqual([null, false]);
  const closed = vi.spyOn(way, 'close');
  await apply();
  expect(closed).toHaveBeenCalledOnce();
  const flushed = vi.spyOn(OutboundKeeper.prototype, 'flush');
  await runtime.stop();
  expect(flushed).toHaveBeenCalled();
});

test('what is owed because of no reading is stored by itself, and never dropped', async () => {
  const added = vi.spyOn(runtime.historian, 'add');
  runtime.contributions.add({ outbound: 1, queue: 'q', number: 5, octets: Uint8Array.of(1) });
  await Promise.resolve();
  expect(added.mock.calls.map(([entry]) => entry)).toMatchObject([
    { device: '', readings: [], keep: null, owed: [{ number: 5 }], mayDrop: false, confirms: false },
  ]);
});

test('a command that was ordered goes to the device that runs', async () => {
  await apply();
  const control = vi.spyOn(runtime.devices.get('A')!, 'control').mockReturnValue();
  base.claimed = [
    {
      ...{ id: 'c1', device: 'A', address: 'AI 0', state: 'claimed', operation: 'pulseOn', mode: 'direct' },
      ...{ counts: null, text: null, onMs: 1, offMs: 1, count: 1, expires: Date.now() + 1000 },
    },
  ];
  await runtime.commands.work();
  expect(control).toHaveBeenCalledWith(expect.objectContaining({ type: 'control', id: 'c1' }));
});

test('an end stores what is there, and lets go of everything', async () => {
  await apply(withSource, { A: 1, B: 2, SUP: 3 });
  await until('both are called', () => sockets.size === 2);
  const source = vi.spyOn(runtime['sources'].get('SUP')!, 'stop');
  await runtime.stop();
  expect(source).toHaveBeenCalledOnce();
  await until('both are let go', () => sockets.size === 0);
  expect(runtime.isCarrying).toBe(false);
  const free = createServer().listen(centrePort, '127.0.0.1');
  await until('the port of centres is free', () => free.listening);
  free.close();
});
