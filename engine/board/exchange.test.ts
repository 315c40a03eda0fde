import { configurationSchema, type DeviceConfig } from '@halvix/core/config';
import type { Reading } from '@halvix/core/point';
import type { Measured } from '@halvix/core/protocols';
import { beforeEach, describe, expect, test } from 'vitest';
import { Exchange, type Change } from './exchange.ts';

const device = (code: string, count = 4): DeviceConfig =>
  configurationSchema.parse({
    ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [], links: [], outbounds: [] },
    devices: [
      {
        ...{ code, name: 'device', station: 'S', link: 'L', protocol: 'dnp3' },
        settings: { ourAddress: 1, theirAddress: 2 },
        points: Array.from({ length: count }, (_, index) => ({
          ...{ kind: 'analog', at: { protocol: 'dnp3', index }, name: `level ${index}` },
        })),
      },
    ],
  }).devices[0];
const number = (address: string): number => Number(address.split(' ')[1]) + 1;
const reading = (value: number, more: Partial<Reading> = {}): Reading => ({
  ...{ raw: value, value, quality: 0, time: 1000, timeSource: 'device', received: 1000, cause: 'event' },
  ...more,
});

let exchange: Exchange;
const put = (id: number, value: number): void => void exchange.put(exchange.get(id)!, reading(value), null);
const said = (changes: readonly Change[]): string[] =>
  changes.map(({ point, reading: { value } }) => `${point.id} ${value}`);
beforeEach(() => {
  exchange = new Exchange();
  exchange.setDevice(device('D'), number);
});

describe('the stages of a change', () => {
  test('come one after the other, each with all changes; what is derived belongs to them', () => {
    const told: string[] = [];
    exchange.listen('handOn', (changes) => told.push(`on ${said(changes).join(', ')}`));
    exchange.listen('judge', (changes) => told.push(`judged ${said(changes).join(', ')}`));
    exchange.listen('derive', (changes) => {
      // The third is the sum of the first two, the fourth twice the third.
      for (const { point } of changes) {
        if (point.id <= 2) put(3, (exchange.get(1)?.reading?.value ?? 0) + (exchange.get(2)?.reading?.value ?? 0));
        if (point.id === 3) put(4, 2 * (exchange.get(3)?.reading?.value ?? 0));
      }
    });
    exchange.together(() => {
      put(1, 5);
      put(2, 6);
    });
    expect(told).toEqual(['judged 1 5, 2 6, 3 11, 3 11, 4 22, 4 22', 'on 1 5, 2 6, 3 11, 3 11, 4 22, 4 22']);
  });

  test('end although somebody derives in a circle', () => {
    let rounds = 0;
    exchange.listen('derive', () => put(1, ++rounds));
    put(1, 0);
    expect(rounds).toBe(16);
    rounds = 0;
    put(2, 0);
    expect(rounds).toBe(16);
  });

  test('a listener that has gone is told nothing', () => {
    const told: string[] = [];
    const stop = exchange.listen('handOn', (changes) => told.push(...said(changes)));
    put(1, 1);
    stop();
    put(1, 2);
    expect(told).toEqual(['1 1']);
  });
});

describe('a point', () => {
  test('keeps its reading under another code of its device, and is gone with its device', () => {
    const carried = { words: () => '', form: () => '', said: () => null, frames: () => [], address: () => '' };
    const origin = { measured: { id: 1 } as Measured, carrier: { carried, committed: null } };
    exchange.put(exchange.get(1)!, reading(5), origin.measured, origin.carrier);
    exchange.removeDevice('D');
    exchange.setDevice(device('E'), number);
    exchange.forget();
    expect(exchange.at('E', 'AI 0')?.reading?.value).toBe(5);
    expect(exchange.at('E', 'AI 0')?.origin).toEqual(origin);
    expect(exchange.at('D', 'AI 0')).toBeUndefined();
    exchange.removeDevice('E');
    exchange.forget();
    exchange.setDevice(device('E'), number);
    expect(exchange.at('E', 'AI 0')?.reading).toBeNull();
  });

  test('stands in the place of one that is gone', () => {
    for (let i = 0; i < 10; i++) {
      exchange.removeDevice('D');
      exchange.forget();
      exchange.setDevice(device('D'), number);
    }
    expect(exchange['latest'].take()).toBe(4);
  });

  test('that is gone takes nothing, and nobody is told', () => {
    const gone = exchange.get(1)!;
    exchange.takeChanged();
    exchange.removeDevice('D');
    exchange.forget();
    expect(exchange.put(gone, reading(5), null)).toBe(false);
    exchange.setLimit(gone, 'high');
    exchange.recall(gone, reading(5), reading(5));
    exchange.setDevice(device('E'), number);
    put(1, 6);
    put(2, 6);
    exchange.takeChanged();
    expect(gone.reading).toBeNull();
    expect(exchange.takeChanged()).toEqual({ points: [], readings: [] });
  });

  test('is found again in the message that brought it, where that can tell', () => {
    const measured = { id: 1, raw: 5 } as Measured;
    const carried = {
      ...{ words: () => '', form: () => '', said: () => null, frames: () => [], address: () => '' },
      place: ({ raw }: Measured) => raw * 8,
      again: (place: number) => (place === 40 ? measured : null),
    };
    const carrier = { carried, committed: null };
    exchange.put(exchange.get(1)!, reading(5), { ...measured }, carrier);
    expect(exchange.get(1)?.origin?.measured).toBe(measured);
    exchange.removeDevice('D');
    exchange.setDevice(device('D'), number);
    expect(exchange.get(1)?.origin?.measured).toBe(measured);
    exchange.put(exchange.get(1)!, reading(6), { ...measured, raw: 6 }, carrier);
    expect(exchange.get(1)?.origin).toBeNull();
    exchange.put(exchange.get(1)!, reading(7), null);
    expect(exchange.get(1)?.origin).toBeNull();
  });

  test('that is recalled says so until it is heard of', () => {
    const point = exchange.get(1)!;
    exchange.recall(point, reading(5), reading(5, { quality: 64, cause: 'engine' }));
    expect(exchange.get(1)).toMatchObject({ recalled: { value: 5, quality: 0 }, reading: { quality: 64 } });
    put(1, 5);
    expect(exchange.get(1)?.recalled).toBeNull();
  });

  test('is published once, and again when that failed', () => {
    put(1, 1);
    put(1, 2);
    put(2, 3);
    const { points, readings } = exchange.takeChanged();
    expect(readings.map(({ pointId, value }) => [pointId, value])).toEqual([
      [1, 2],
      [2, 3],
    ]);
    expect(exchange.takeChanged().points).toEqual([]);
    exchange.giveBack(points);
    exchange.giveBack(points);
    expect(exchange.takeChanged().points.map(({ id }) => id)).toEqual([1, 2]);
  });

  test('is published anew with another level, and not with the same one', () => {
    put(1, 1);
    exchange.takeChanged();
    exchange.setLimit(exchange.get(1)!, 'high');
    expect(exchange.takeChanged().readings).toMatchObject([{ pointId: 1, value: 1, limit: 'high' }]);
    exchange.setLimit(exchange.get(1)!, 'high');
    expect(exchange.takeChanged().points).toEqual([]);
  });
});
