import { configurationSchema, type DeviceConfig } from '@halvix/core/config';
import { Quality, type Limits, type Reading } from '@halvix/core/point';
import { beforeEach, describe, expect, test, vi } from 'vitest';
import { Exchange, type LivePoint } from './exchange.ts';
import { Journal } from '../journal.ts';
import { LimitDesk } from './limitdesk.ts';

const LIMITS: Limits = { lowLow: null, low: null, high: 900, highHigh: 950, hysteresis: 10, delayMs: 0 };
const deviceWith = (limits: Limits | null): DeviceConfig => {
  const [device] = configurationSchema.parse({
    schema: 'halvix.configuration',
    version: 3,
    network: 'test',
    stations: [],
    links: [],
    devices: [
      {
        ...{ code: 'D', name: 'device', station: 'S', link: 'L', protocol: 'dnp3' },
        settings: { ourAddress: 1, theirAddress: 2 },
        points: [0, 1].map((index) => ({
          ...{ kind: 'analog', at: { protocol: 'dnp3', index }, name: `level ${index}`, unit: 'm' },
          limits: index === 0 ? limits : null,
        })),
      },
    ],
    outbounds: [],
  }).devices;
  return device;
};
const NOON = 1_700_000_000_000;
const reading = (value: number, more: Partial<Reading> = {}): Reading => ({
  ...{ raw: value, value, quality: 0, time: NOON, timeSource: 'device', received: NOON, cause: 'event' },
  ...more,
});

let exchange: Exchange;
let journal: Journal;
let desk: LimitDesk;
const adopt = (limits: Limits | null): void =>
  desk.adopt(exchange.setDevice(deviceWith(limits), (address) => Number(address.split(' ')[1]) + 1));
const level = (): LivePoint => exchange.get(1)!;
const words = (): string[] => journal.take().map((entry) => entry.words);
beforeEach(() => {
  exchange = new Exchange();
  journal = new Journal();
  desk = new LimitDesk(exchange, journal);
  adopt(LIMITS);
});

describe('limits', () => {
  test('are taken up after a restart: what was said is not said again, what was missed is', () => {
    exchange.recall(
      level(),
      reading(920, { limit: 'high' }),
      reading(920, { limit: 'high', quality: Quality.commLost }),
    );
    expect([words(), level().reading?.limit]).toEqual([[], 'high']);
    exchange.put(level(), reading(930), null);
    expect([words(), level().reading?.limit]).toEqual([[], 'high']);
    exchange.put(level(), reading(800), null);
    expect(words()).toEqual(['level 0: back within limits, 800 m']);
  });

  test('of which a value came back while nobody looked say so at the first look', () => {
    exchange.recall(
      level(),
      reading(920, { limit: 'high' }),
      reading(920, { limit: 'high', quality: Quality.commLost }),
    );
    exchange.put(level(), reading(700, { cause: 'static' }), null);
    expect([words(), level().reading?.limit]).toEqual([['level 0: back within limits, 700 m'], null]);
  });

  test('are part of the change that they come with, and a change by themselves after a delay', () => {
    const told: [string, string | null][] = [];
    exchange.listen('handOn', (changes) =>
      told.push(...changes.map((one): [string, string | null] => [one.what, one.level])),
    );
    exchange.put(level(), reading(960), null);
    expect(told).toEqual([['reading', 'highHigh']]);
    vi.useFakeTimers();
    adopt({ ...LIMITS, delayMs: 5000 });
    told.length = 0;
    exchange.put(level(), reading(800), null);
    exchange.put(level(), reading(920), null);
    expect(told.map(([, level_]) => level_)).toEqual([null, null]);
    vi.advanceTimersByTime(6000);
    expect(told.at(-1)).toEqual(['level', 'high']);
    vi.useRealTimers();
  });

  test('a value beyond one is marked and told, once, and so is its way back', () => {
    exchange.put(level(), reading(920), null);
    expect(level().reading?.limit).toBe('high');
    exchange.put(level(), reading(930), null);
    exchange.put(level(), reading(896), null);
    expect(level().reading?.limit).toBe('high');
    exchange.put(level(), reading(880), null);
    expect(level().reading?.limit).toBeNull();
    expect(words()).toEqual(['level 0: beyond high, 920 m', 'level 0: back within limits, 880 m']);
  });

  test('are told with six digits of the value and its unit', () => {
    exchange.put(level(), reading(912.3456789), null);
    exchange.put(level(), reading(12.3456789), null);
    expect(words()).toEqual(['level 0: beyond high, 912.346 m', 'level 0: back within limits, 12.3457 m']);
  });

  test('of readings that come together each is looked at', () => {
    exchange.together(() => {
      exchange.put(level(), reading(960), null);
      exchange.put(level(), reading(100), null);
    });
    expect(words()).toEqual(['level 0: beyond high-high, 960 m', 'level 0: back within limits, 100 m']);
    expect(level().reading?.limit ?? null).toBeNull();
  });

  test('a point without limits is left alone, a value that is not there changes nothing', () => {
    exchange.put(exchange.get(2)!, reading(1e6), null);
    exchange.put(level(), reading(920), null);
    exchange.put(level(), reading(0, { quality: Quality.commLost }), null);
    expect(level().reading?.limit).toBe('high');
    expect(words()).toEqual(['level 0: beyond high, 920 m']);
  });

  test('a look at the present value that finds it unchanged keeps the level', () => {
    exchange.put(level(), reading(920), null);
    exchange.put(level(), reading(920, { cause: 'static' }), null);
    expect(level().reading?.limit).toBe('high');
  });

  test('a delay has to run out', () => {
    vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout', 'Date', 'performance'] });
    try {
      adopt({ ...LIMITS, delayMs: 500 });
      exchange.put(level(), reading(920), null);
      expect(level().reading?.limit ?? null).toBeNull();
      vi.advanceTimersByTime(490);
      expect(words()).toEqual([]);
      vi.advanceTimersByTime(20);
      expect(level().reading?.limit).toBe('high');
      expect(words()).toEqual(['level 0: beyond high, 920 m']);
    } finally {
      desk.stop();
      vi.useRealTimers();
    }
  });

  test('other limits count at once, the same ones go on, none take the mark away', () => {
    exchange.put(level(), reading(920), null);
    journal.take();
    adopt({ ...LIMITS });
    expect([level().reading?.limit, words()]).toEqual(['high', []]);
    adopt({ ...LIMITS, highHigh: 910 });
    expect([level().reading?.limit, words()]).toEqual(['highHigh', ['level 0: beyond high-high, 920 m']]);
    adopt(null);
    expect(level().reading?.limit).toBeNull();
  });
});
