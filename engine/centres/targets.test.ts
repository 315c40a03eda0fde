import { configurationSchema, type OutboundConfig } from '@halvix/core/config';
import { Quality, type Reading } from '@halvix/core/point';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { Exchange, type LivePoint } from '../board/exchange.ts';
import { Targets, type Target } from './targets.ts';

/* The mappings of one outbound by themselves: no session, no link. */

// Documents before they are read.
/* eslint-disable @typescript-eslint/no-explicit-any */
const POWER = 'AI 0';
const at = (index: number) => ({
  ...{ protocol: 'dnp3', index, eventClass: 1, staticVariation: 1, eventVariation: 3 },
});
const mapped = (point: string, kind: string, index: number, more: object = {}): any => ({
  ...{ device: 'D', point },
  target: { kind, at: at(index), value: 'engineering', deadband: null, ...more },
});

let exchange: Exchange;
let now: number;

/** The outbound with these mappings; `change` alters the device's points first. */
function outboundOf(mappings: any[], more: object = {}, change: (points: any[]) => void = () => {}): OutboundConfig {
  const points: any[] = [
    {
      kind: 'analog',
      at: { protocol: 'dnp3', index: 0 },
      name: 'power',
      unit: 'kW',
      gain: 0.1,
      deadband: { value: 2 },
    },
    { kind: 'binary', at: { protocol: 'dnp3', index: 1 }, name: 'breaker' },
    { kind: 'analog', at: { protocol: 'dnp3', index: 2 }, name: 'level', unit: 'm' },
  ];
  change(points);
  const configuration = configurationSchema.parse({
    ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [] },
    links: [{ code: 'L', name: 'link', type: 'tcpServer', protocol: 'dnp3', port: 20_100 }],
    devices: [
      {
        ...{ code: 'D', name: 'relay', station: 'S', link: 'F', protocol: 'dnp3', points },
        settings: { ourAddress: 1, theirAddress: 2 },
      },
    ],
    outbounds: [
      {
        ...{ code: 'C', name: 'centre', centre: 'Quillstone', link: 'L', protocol: 'dnp3', mappings, ...more },
        settings: { ourAddress: 10, theirAddress: 100 },
      },
    ],
  });
  for (const device of configuration.devices)
    exchange.setDevice(device, (address) => Number(address.split(' ')[1]) + 1);
  return configuration.outbounds[0];
}
const point = (id: number): LivePoint => exchange.get(id)!;
const reading = (raw: number, more: Partial<Reading> = {}): Reading => ({
  ...{ raw, value: raw, quality: Quality.good, time: 5000, timeSource: 'device', received: 6000, cause: 'event' },
  ...more,
});
const update = (targets: Targets, target: Target, raw: number, more: Partial<Reading> = {}, moved = false) =>
  targets.update(target, point(1), reading(raw, more), moved, 'g30v1 i7');
const targetAt = (targets: Targets, address: string): Target => targets.at(address)!;

beforeEach(() => {
  vi.useFakeTimers();
  now = Date.UTC(2096, 0, 1);
  vi.setSystemTime(now);
  exchange = new Exchange();
});
afterEach(() => {
  vi.useRealTimers();
});
/** To another moment; the clock of readings never goes back. */
function wait(ms: number): number {
  now += ms;
  vi.advanceTimersByTime(ms);
  return now;
}

describe('by either end', () => {
  test('one point may go to several places, and what is not on the list any more goes nowhere', () => {
    const config = outboundOf([
      mapped(POWER, 'analog', 7),
      mapped(POWER, 'analog', 8, { value: 'raw' }),
      mapped('BI 1', 'binary', 3, { at: { ...at(3), staticVariation: 2, eventVariation: 2 } }),
      mapped('AI 99', 'analog', 9),
    ]);
    const targets = new Targets(exchange, config);
    expect(targets.of(point(1)).map(({ mapping }) => mapping.target.at)).toMatchObject([{ index: 7 }, { index: 8 }]);
    expect(targets.of(point(2))).toHaveLength(1);
    expect(targets.of(point(3))).toEqual([]);
    expect(targets.at('AI 9')?.mapping.point).toBe('AI 99');
    expect(targets.at('AI 10')).toBeUndefined();
    expect(targets.sources().map(({ id }) => id)).toEqual([1, 1, 2]);
  });

  test('what is offered has its name, a unit where it is no count, and a deadband in what it is handed', () => {
    const config = outboundOf([
      mapped(POWER, 'analog', 7),
      mapped(POWER, 'analog', 8, { value: 'raw' }),
      mapped(POWER, 'analog', 9, { deadband: 0.5 }),
      mapped('AI 99', 'analog', 10),
    ]);
    expect(new Targets(exchange, config).offered()).toMatchObject([
      { name: 'power', unit: 'kW', deadband: 2 },
      { name: 'power', unit: '', deadband: 20 },
      { unit: 'kW', deadband: 0.5 },
      { name: '', unit: '', deadband: 0 },
    ]);
  });

  test.each([
    [true, true, true],
    [true, false, false],
    [false, true, false],
  ])('with controls %s and a mapping that may control %s it may be operated: %s', (controls, mayControl, may) => {
    const config = outboundOf([mapped(POWER, 'analog', 7, { mayControl })], { controls });
    expect(new Targets(exchange, config).offered()[0].mayOperate).toBe(may);
  });
});

describe('what a reading is there', () => {
  test('is converted, at its own time; a mark of the engine has the time at which it is told', () => {
    const targets = new Targets(exchange, outboundOf([mapped(POWER, 'analog', 7)]));
    const target = targetAt(targets, 'AI 7');
    expect(update(targets, target, 123)).toMatchObject({ kind: 'analog', value: 12.3, time: 5000 });
    const marked = update(targets, target, 123, { cause: 'engine', quality: Quality.commLost });
    expect(marked).toMatchObject({ quality: Quality.commLost, time: now });
    expect('text' in marked).toBe(false);
    expect(update(targets, target, 0, { text: 'closed' }).text).toBe('closed');
  });

  test.each([
    ['device', false],
    ['receipt', false],
    ['deviceUnsynchronised', true],
    ['deviceDoubtful', true],
    ['receiptDoubtful', true],
  ] as const)('with a time by %s is unsynchronised: %s', (timeSource, isSo) => {
    const targets = new Targets(exchange, outboundOf([mapped(POWER, 'analog', 7)]));
    expect(update(targets, targetAt(targets, 'AI 7'), 1, { timeSource }).unsynchronised).toBe(isSo);
  });

  test('is told always where it is an event of a contact, or without a deadband; never what was only looked at', () => {
    const contact = { at: { ...at(3), staticVariation: 2, eventVariation: 2 } };
    const config = outboundOf([
      mapped('BI 1', 'binary', 3, contact),
      mapped(POWER, 'analog', 7),
      mapped('AI 2', 'analog', 8),
    ]);
    const targets = new Targets(exchange, config);
    const always = (address: string, id: number, cause: Reading['cause']): boolean | undefined =>
      targets.update(targetAt(targets, address), point(id), reading(1, { cause }), false, '').always;
    expect([always('BI 3', 2, 'event'), always('BI 3', 2, 'static')]).toEqual([true, false]);
    expect([always('AI 7', 1, 'event'), always('AI 8', 3, 'event')]).toEqual([false, true]);
    expect(always('AI 8', 3, 'static')).toBe(false);
  });

  test('has moved for the centre when it has for everybody, unless the mapping has a deadband of its own', () => {
    const config = outboundOf([mapped(POWER, 'analog', 7), mapped(POWER, 'analog', 8, { deadband: 5 })]);
    const targets = new Targets(exchange, config);
    const moved = (address: string, has: boolean): boolean | undefined =>
      update(targets, targetAt(targets, address), 1, {}, has).moved;
    expect([moved('AI 7', true), moved('AI 7', false), moved('AI 8', true)]).toEqual([true, false, false]);
  });
});

describe('what became of it', () => {
  const said = (kind: string, quality: number): string => `${kind} ${quality}`;
  let targets: Targets;
  const trail = (id = 1) => targets.deliveriesOf(point(id), said);
  /** Whose trail was touched since the last call. */
  function touched(): number[] {
    return exchange.takeChanged().points.map(({ id }) => id);
  }
  beforeEach(() => {
    const contact = { at: { ...at(3), staticVariation: 2, eventVariation: 2 } };
    targets = new Targets(exchange, outboundOf([mapped(POWER, 'analog', 7), mapped('BI 1', 'binary', 3, contact)]));
    for (const id of [1, 2]) exchange.watched.add(id);
    touched();
  });

  test('nothing before there was a reading', () => {
    expect(trail()).toEqual([]);
    targets.event({ address: 'AI 7', number: 1, form: 'g32v3 i7' });
    targets.read(['AI 7', 'AI 99']);
    targets.integrityRead();
    expect([trail(), touched()]).toEqual([[], []]);
  });

  test('an event is offered, reported and confirmed, each at its moment, and its trail is shown anew', () => {
    update(targets, targetAt(targets, 'AI 7'), 123, { quality: Quality.overRange });
    const offered = now;
    expect(trail()).toEqual([
      {
        ...{ kind: 'analog', object: 'g30v1 i7', value: 12.3, said: `analog ${Quality.overRange}` },
        ...{ eventNumber: null, offered, reported: null, confirmed: null },
      },
    ]);
    targets.event({ address: 'AI 7', number: 41, form: 'g32v3 i7' });
    const reported = wait(10);
    targets.reported([
      { address: 'AI 7', number: 41 },
      { address: 'AI 99', number: 41 },
    ]);
    expect(trail()).toMatchObject([{ object: 'g32v3 i7', eventNumber: 41, offered, reported, confirmed: null }]);
    expect(touched()).toEqual([1]);
    const confirmed = wait(10);
    targets.confirmed([{ address: 'AI 7', number: 41 }]);
    expect(trail()).toMatchObject([{ reported, confirmed }]);
    expect(touched()).toEqual([1]);
  });

  test('what is acknowledged of an earlier event is nothing of the latest', () => {
    const target = targetAt(targets, 'AI 7');
    update(targets, target, 1);
    targets.event({ address: 'AI 7', number: 41, form: '' });
    update(targets, target, 2);
    targets.event({ address: 'AI 7', number: 42, form: '' });
    targets.reported([{ address: 'AI 7', number: 41 }]);
    targets.confirmed([{ address: 'AI 7', number: 41 }]);
    expect(trail()).toMatchObject([{ eventNumber: 42, reported: null, confirmed: null }]);
    expect(touched()).toEqual([]);
  });

  test('a client that reads it has it', () => {
    update(targets, targetAt(targets, 'AI 7'), 1);
    const read = wait(5);
    targets.read(['AI 7']);
    expect(trail()).toMatchObject([{ reported: read, confirmed: read }]);
    expect(touched()).toEqual([1]);
  });

  test('an integrity poll has brought what made no event, once', () => {
    update(targets, targetAt(targets, 'AI 7'), 1);
    targets.update(targetAt(targets, 'BI 3'), point(2), reading(1), false, '');
    targets.event({ address: 'BI 3', number: 7, form: '' });
    const first = wait(5);
    targets.integrityRead();
    expect(touched()).toEqual([1]);
    wait(5);
    targets.integrityRead();
    expect(trail(1)).toMatchObject([{ reported: first, confirmed: null }]);
    expect(trail(2)).toMatchObject([{ reported: null }]);
    expect(touched()).toEqual([]);
  });

  test('stays with a target that goes on with the same source, and is forgotten with another', () => {
    update(targets, targetAt(targets, 'AI 7'), 1);
    targets.adopt(outboundOf([mapped(POWER, 'analog', 7, { deadband: 3 })]));
    expect(trail()).toHaveLength(1);
    expect(targetAt(targets, 'AI 7').deadband).toBe(3);
    expect(targets.at('BI 3')).toBeUndefined();
    targets.adopt(outboundOf([mapped('AI 2', 'analog', 7)]));
    expect([trail(1), trail(3)]).toEqual([[], []]);
    expect(targets.of(point(1))).toEqual([]);
  });
});
