import { configurationSchema, type Configuration, type LinkConfig } from '@halvix/core/config';
import { Quality, type Reading } from '@halvix/core/point';
import { NOTHING_REMEMBERED, outcome, type ControlOutcome, type OwedRecord } from '@halvix/core/protocols';
import { Flag, Master, masterSettings, type MasterEffect } from '@halvix/core/protocols/dnp3';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import type { CentreControl } from '../controls/controls.ts';
import { Conversations } from '../links/conversations.ts';
import { Exchange, withoutCommunication } from '../board/exchange.ts';
import { Journal } from '../journal.ts';
import { OutboundRunner, type HandedOver, type OutboundContext } from './outbound.ts';
import type { CentreLink, OutboundMember } from '../links/outboundlink.ts';

/* One outbound between a real exchange and a real master, without a wire. */

// Documents before they are read.
/* eslint-disable @typescript-eslint/no-explicit-any */
const configured = (change: (c: any) => void = () => {}): Configuration => {
  const at = (index: number, eventClass = 1) => ({
    protocol: 'dnp3',
    index,
    eventClass,
    staticVariation: 1,
    eventVariation: 3,
  });
  const document = {
    ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [] },
    links: [{ code: 'L', name: 'link', type: 'tcpServer', protocol: 'dnp3', port: 20_100 }],
    devices: [
      {
        ...{ code: 'D', name: 'relay', station: 'S', link: 'F', protocol: 'dnp3' },
        settings: { ourAddress: 1, theirAddress: 2 },
        points: [
          { kind: 'analog', at: { protocol: 'dnp3', index: 0 }, name: 'power', unit: 'kW', gain: 0.1 },
          { kind: 'binary', at: { protocol: 'dnp3', index: 1 }, name: 'breaker' },
          { kind: 'doubleBit', at: { protocol: 'dnp3', index: 3 }, name: 'gate' },
          {
            ...{ kind: 'setpoint', at: { protocol: 'dnp3', index: 2 }, name: 'limit', gain: 0.5 },
            setting: { low: 0, high: 100 },
          },
        ],
      },
    ],
    outbounds: [
      {
        ...{ code: 'C', name: 'centre', centre: 'Quillstone', link: 'L', protocol: 'dnp3' },
        settings: { ourAddress: 10, theirAddress: 100 },
        mappings: [
          { device: 'D', point: 'AI 0', target: { kind: 'analog', at: at(7), value: 'engineering' } },
          {
            ...{ device: 'D', point: 'DBI 3' },
            target: { kind: 'doubleBit', at: { ...at(4), staticVariation: 2, eventVariation: 2 } },
          },
          {
            device: 'D',
            point: 'BI 1',
            target: { kind: 'binary', at: { ...at(8), staticVariation: 2, eventVariation: 2 } },
          },
          { device: 'D', point: 'AO 2', target: { kind: 'setpoint', at: at(9), value: 'engineering' } },
        ],
      },
    ],
  };
  change(document);
  return configurationSchema.parse(document);
};

let exchange: Exchange;
let journal: Journal;
let runner: OutboundRunner;
let member: OutboundMember;
let owed: OwedRecord[];
let settled: { queue: string; position: number }[];
let controls: CentreControl[];
let answer: ControlOutcome;
let master: Master;
let heard: { kind: string; index: number; value: number; flags: number; event: boolean }[];
let steps: (MasterEffect & { type: 'control' })[];
let toMaster: Uint8Array[];

const link = (config: LinkConfig): CentreLink => ({
  where: '',
  ...{ config, timing: { framing: '', octetMs: 0 }, problem: null, isEmpty: false, fits: () => true },
  add: (one) => (member = one),
  remove: () => {},
  send: (_member, octets) => void toMaster.push(octets),
  hangUp: () => {},
  close: () => Promise.resolve(),
});
const context = (): OutboundContext => ({
  ...{ exchange, journal, changed: () => {}, conversations: new Conversations(), keep: () => {} },
  sent: { out: () => {}, answered: () => {} },
  control: (control) => {
    controls.push(control);
    return Promise.resolve(answer);
  },
  owe: (record) => owed.push(record),
  settle: (one) => settled.push(one),
});
function list(configuration: Configuration): void {
  for (const device of configuration.devices)
    exchange.setDevice(device, (address) => Number(address.split(' ')[1]) + 1);
}
function begin(configuration = configured(), handed?: HandedOver): void {
  const [config] = configuration.outbounds;
  runner = new OutboundRunner(
    config,
    1,
    link(configuration.links[0]),
    context(),
    handed?.remembered ?? NOTHING_REMEMBERED,
  );
  runner.begin();
  if (handed?.remembered.owes) runner.fill(handed.owed, true);
  runner.open();
}
const reading = (value: number, more: Partial<Reading> = {}): Reading => ({
  ...{ raw: value, value, quality: 0, time: Date.now(), timeSource: 'device', received: Date.now(), cause: 'event' },
  ...more,
});
const put = (id: number, raw: number, more: Partial<Reading> = {}): void => {
  const point = exchange.get(id)!;
  exchange.put(point, reading(raw, { value: raw * point.config.gain, ...more }), null);
};
/** Time passes; what either end says reaches the other. */
async function pass(ms: number): Promise<void> {
  for (const end = Date.now() + ms; Date.now() < end;) {
    for (let busy = true; busy;) {
      busy = false;
      for (const effect of master.take()) {
        busy = true;
        if (effect.type === 'send') member.data(1, effect.octets);
        if (effect.type === 'readings') {
          heard.push(...effect.readings);
          if (effect.token !== null) master.command({ type: 'committed', token: effect.token }, Date.now());
        }
        if (effect.type === 'control') steps.push(effect);
      }
      for (const octets of toMaster.splice(0)) {
        busy = true;
        master.receive(octets, Date.now());
      }
      await Promise.resolve();
    }
    await vi.advanceTimersByTimeAsync(20);
    master.wake(Date.now());
  }
}
async function come(address = '10.0.0.7'): Promise<void> {
  const settings = { ourAddress: 100, theirAddress: 10, integrityPeriodMs: 0, class1PeriodMs: 200, timeSync: 'never' };
  master = new Master(masterSettings.parse(settings), Date.now());
  member.up(1, address, address);
  master.start(Date.now());
  await pass(500);
}
const events = (): [string, number][] =>
  heard.filter(({ event }) => event).map(({ kind, index, value }) => [`${kind} ${index}`, value]);

beforeEach(() => {
  vi.useFakeTimers();
  exchange = new Exchange();
  journal = new Journal();
  [owed, settled, controls, heard, steps, toMaster] = [[], [], [], [], [], []];
  answer = outcome('done');
  list(configured());
});
afterEach(() => {
  runner.stop();
  vi.useRealTimers();
});

describe('what is handed on', () => {
  test('begins with what is known, told to nobody anew; what is not answered for yet only shows it', async () => {
    const point = exchange.get(1)!;
    const known = reading(50, { value: 5, cause: 'static' });
    exchange.recall(point, known, withoutCommunication(known));
    begin();
    await come();
    expect(heard.find(({ index }) => index === 7)).toMatchObject({ value: 5, flags: Flag.commLost });
    put(1, 50, { cause: 'static' });
    await pass(500);
    expect([events(), owed]).toEqual([[], []]);
    // Found silent it is told.
    exchange.put(point, withoutCommunication(point.reading!), null);
    await pass(500);
    expect(events()).toEqual([['analog 7', 5]]);
  });

  test.each([
    ['binary', 2, 1],
    ['double-bit', 4, 2],
    ['double-bit, moving', 4, 0],
  ])(
    'of a %s point that the device has as before makes no event at a start; what changed meanwhile does',
    async (_kind, id, raw) => {
      const point = exchange.get(id)!;
      for (const [now, made] of [
        [raw, 0],
        [raw === 1 ? 0 : 1, 1],
      ]) {
        const known = reading(raw, { cause: 'event' });
        exchange.recall(point, known, withoutCommunication(known));
        begin();
        put(id, now, { cause: 'static' });
        expect(runner.state().eventsWaiting).toBe(made);
        runner.stop();
      }
      begin();
    },
  );

  test('is converted, owed from then on, and settled once the centre has it; its way is known', async () => {
    begin();
    await come();
    put(1, 123);
    put(2, 1);
    expect(owed.map(({ queue }) => queue)).toEqual(['1', '1']);
    await pass(500);
    expect(events()).toEqual([
      ['analog 7', 12],
      ['binary 8', 1],
    ]);
    expect(settled.at(-1)?.position).toBeGreaterThanOrEqual(owed[1].number);
    const [delivery] = runner.deliveriesOf(exchange.get(1)!);
    expect(delivery).toMatchObject({ object: 'g32v3 i7', value: 12.3, said: 'online' });
    expect(delivery.confirmed).toBeGreaterThanOrEqual(delivery.reported ?? Infinity);
    expect(runner.state()).toMatchObject({ eventsWaiting: 0, connectedFrom: '10.0.0.7' });
    expect(runner.state().lastConfirmed).not.toBeNull();
  });

  test('is nothing while the device is on test', async () => {
    list(configured((c) => (c.devices[0].life = 'onTest')));
    begin(configured((c) => (c.devices[0].life = 'onTest')));
    put(1, 5);
    expect(owed).toEqual([]);
  });

  test('waits for a centre that is away, and is there for whoever goes on in its place', async () => {
    begin();
    put(2, 1);
    put(2, 0);
    expect(runner.state()).toMatchObject({ eventsWaiting: 2, connectedFrom: null });
    const handed = runner.stop();
    expect(handed.owed).toHaveLength(2);
    begin(
      configured((c) => (c.outbounds[0].code = 'D2')),
      handed,
    );
    await come();
    expect(events()).toEqual([
      ['binary 8', 1],
      ['binary 8', 0],
    ]);
  });

  test('rests before it ends: what has gone out is waited for, nothing new goes out', async () => {
    begin();
    await come();
    put(2, 1);
    let rested = false;
    const rest = runner.rest().then(() => (rested = true));
    await pass(2000);
    await rest;
    expect([rested, events()]).toEqual([true, []]);
  });
});

describe('another list', () => {
  test('tells what is mapped anew, and nothing again of what was mapped before', async () => {
    put(1, 40);
    put(2, 1);
    begin();
    const next = configured((c) => {
      c.outbounds[0].mappings.push({
        ...{ device: 'D', point: 'BI 1' },
        target: {
          kind: 'binary',
          at: { protocol: 'dnp3', index: 20, eventClass: 2, staticVariation: 2, eventVariation: 2 },
        },
      });
    });
    list(next);
    runner.adopt(next.outbounds[0], new Set(['D']));
    await come();
    expect(events()).toEqual([['binary 20', 1]]);
  });

  test('withholds what is not on any list any more', async () => {
    put(2, 1);
    begin();
    const next = configured(
      (c) => (c.devices[0].points = c.devices[0].points.filter(({ kind }: any) => kind !== 'binary')),
    );
    list(next);
    exchange.forget();
    runner.adopt(next.outbounds[0], new Set(['D']));
    await come();
    expect(heard.findLast(({ index }) => index === 8)).toMatchObject({ value: 1 });
    expect((heard.findLast(({ index }) => index === 8)?.flags ?? 1) & Flag.online).toBe(0);
  });

  test('and other time-outs are adopted while the centre stays', async () => {
    begin();
    await come();
    const next = configured((c) =>
      Object.assign(c.outbounds[0], {
        centre: 'Ambry',
        settings: { ourAddress: 10, theirAddress: 100, confirmTimeoutMs: 7000 },
      }),
    );
    runner.adopt(next.outbounds[0], new Set());
    put(2, 1);
    await pass(500);
    expect([events(), runner.state().connectedFrom]).toEqual([[['binary 8', 1]], '10.0.0.7']);
    member.down(1);
    expect(journal.take().at(-1)?.words).toBe('Ambry is not connected any more');
  });
});

describe('a control of the centre', () => {
  const set = async (value: number): Promise<void> => {
    const block = { code: 0, count: 0, onMs: 0, offMs: 0 };
    const what = {
      id: `c${value}`,
      index: 9,
      mode: 'direct' as const,
      block,
      setpoint: { variation: 3 as const, value },
    };
    master.command({ type: 'control', ...what, expiresAt: Date.now() + 5000 }, Date.now());
    await pass(500);
  };

  test('goes to its device, in counts, and is answered with what came of it', async () => {
    begin();
    await come();
    await set(40);
    expect(controls).toMatchObject([
      { outbound: 'C', device: 'D', address: 'AO 2', phase: 'direct', order: { counts: 80 } },
    ]);
    expect(steps.at(-1)).toMatchObject({ step: 'operated' });
    answer = outcome('blocked');
    await set(41);
    expect(steps.at(-1)).toMatchObject({ step: 'refused' });
  });

  test.each<[string, (c: any) => void, string]>([
    ['where it may operate nothing', (c) => (c.outbounds[0].controls = false), 'it may not operate AO 9 here'],
    [
      'where the mapping does not let it',
      (c) => (c.outbounds[0].mappings[3].target.mayControl = false),
      'it may not operate AO 9 here',
    ],
    ['from elsewhere', (c) => (c.outbounds[0].controlsFrom = ['192.168.0.0/16']), 'nothing may be operated from there'],
  ])('is refused %s, and that is said', async (_words, change, words) => {
    begin(configured(change));
    await come();
    await set(40);
    expect(controls).toEqual([]);
    expect(steps.at(-1)).toMatchObject({ step: 'refused' });
    expect(runner.state().lastProblem?.words).toContain(words);
  });

  test('of a device that is on test is blocked', async () => {
    begin();
    list(configured((c) => (c.devices[0].life = 'onTest')));
    await come();
    await set(40);
    expect([controls, steps.at(-1)?.step]).toEqual([[], 'refused']);
  });
});

describe('how it stands', () => {
  test('failed without its centre, after a while; silent after a minute; well while it is heard', async () => {
    begin();
    expect(runner.standing().failed).toBeNull();
    await vi.advanceTimersByTimeAsync(120_000);
    expect(runner.standing().failed).toBe(true);
    await come();
    expect(runner.standing().failed).toBe(false);
    await vi.advanceTimersByTimeAsync(120_000);
    expect(runner.standing().failed).toBe(true);
  });

  test('counts who was not let in, and begins anew when asked', () => {
    begin();
    member.refused('connection from 10.9.9.9 refused: its network is not allowed');
    expect(runner.state()).toMatchObject({ connectionsRefused: 1 });
    expect(runner.state().lastProblem?.words).toContain('10.9.9.9');
    runner.resetCounters();
    expect(runner.state()).toMatchObject({ connectionsRefused: 0, lastProblem: null });
  });

  test('quality that the centre is told is in its own words', async () => {
    begin();
    put(1, 9, { quality: Quality.forcedAtDevice });
    expect(runner.deliveriesOf(exchange.get(1)!)[0].said).toBe('online, remote forced');
  });
});
