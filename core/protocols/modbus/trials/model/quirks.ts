import { Lane, NO_LINE_TIMING, type LaneEffect } from '../../../../line/index.ts';
import type { ClientCommand, ClientNews } from '../../../client.ts';
import { ModbusClient } from '../../client/client.ts';
import type { Order } from '../../order.ts';
import { modbusAt, type ModbusAt } from '../../points.ts';
import { clientSettings } from '../../settings.ts';
import { modbusFraming, type WireEvent } from '../../wire/frame.ts';
import { ModelServer, UNIT, type Framing, type Quirks } from './device.ts';

/*
 * What foreign servers do: each row one that keeps to the specification in a way of its own, or nearly keeps to it. Of each of
 * them our client has to read every point that can be read, and to name those that cannot, without asking beyond measure.
 */

export interface Oddity {
  name: string;
  quirks: Quirks;
  settings?: object;
  framing?: Framing;
  /** Registers in the list. */
  listed?: readonly number[];
  /** Those of them that cannot be had. */
  lost?: readonly number[];
  /** It is as it should be again after so many seconds: then it is asked as at first. */
  healsAfterS?: number;
  /** What is said of it has these words. */
  learned?: RegExp;
}

const range = (from: number, count: number): number[] => Array.from({ length: count }, (_, n) => from + n);
/** Ten in a row, ten further on, one by itself. */
const LISTED = [...range(0, 11), ...range(100, 10), 300];
const each = (n: number, what: 'spoilt' | 'lost' | 'cut' | number) => (number: number) =>
  number % n === 0 ? what : ('good' as const);

export const ODDITIES: readonly Oddity[] = [
  { name: 'none', quirks: {} },
  { name: 'none, on a line', quirks: {}, framing: 'rtu' },
  ...[1, 2, 3, 4, 5, 6, 8, 0x0a, 0x0b, 0x63].map((code): Oddity => ({
    name: `exception ${code} for one register of a block`,
    quirks: { says: { 5: code } },
    lost: [5],
  })),
  { name: 'silence for one register of a block', quirks: { says: { 5: 'silence' } }, lost: [5] },
  { name: 'silence for one register, on a line', quirks: { says: { 5: 'silence' } }, lost: [5], framing: 'rtu' },
  {
    name: 'silence for two registers of two blocks',
    quirks: { says: { 5: 'silence', 104: 'silence' } },
    lost: [5, 104],
  },
  {
    name: 'silence behind a gap, in its only block',
    quirks: { gaps: 'silence' },
    listed: [...range(0, 50), ...range(60, 64)],
  },
  { name: 'exception 4 in a gap', quirks: { gaps: 4 }, listed: [...range(0, 10), ...range(14, 10)] },
  { name: 'silence in a gap', quirks: { gaps: 'silence' }, listed: [...range(0, 10), ...range(14, 10), 300] },
  ...([2, 3, 4, 'silence'] as const).map((says): Oddity => ({
    name: `at most 60 registers at once, else ${says}`,
    quirks: { most: { registers: 60, says } },
    listed: [...range(0, 120), 300],
    learned: /may be its most/,
  })),
  { name: 'at most one register at once', quirks: { most: { registers: 1, says: 3 } } },
  { name: 'each third answer spoilt', quirks: { answer: each(3, 'spoilt') }, framing: 'rtu' },
  {
    name: 'each third answer spoilt, asked once',
    quirks: { answer: each(3, 'spoilt') },
    framing: 'rtu',
    settings: { retries: 0 },
  },
  { name: 'each third answer lost, asked once', quirks: { answer: each(3, 'lost') }, settings: { retries: 0 } },
  { name: 'each fifth answer cut', quirks: { answer: each(5, 'cut') }, framing: 'rtu' },
  { name: 'busy each second time', quirks: { answer: each(2, 6) } },
  { name: 'each fourth answer an exception 4', quirks: { answer: each(4, 4) } },
  { name: 'each fourth answer an exception 11', quirks: { answer: each(4, 11) } },
  { name: 'exception 4 for a minute', quirks: { says: { 5: 4 } }, healsAfterS: 60 },
  { name: 'silence for one register for a minute', quirks: { says: { 5: 'silence' } }, healsAfterS: 60 },
  { name: 'closes behind each answer', quirks: { closes: { afterMs: 50 } } },
  { name: 'thinks for 900 ms', quirks: { delayMs: 900 } },
  { name: 'octet by octet', quirks: { dribbles: true } },
  { name: 'octet by octet, on a line', quirks: { dribbles: true }, framing: 'rtu' },
  { name: 'others answer before it', quirks: { strangers: true } },
  { name: 'says everything twice', quirks: { twice: true } },
  { name: 'noise before its answers, on a line', quirks: { before: [0x55, 0xff] }, framing: 'rtu' },
  { name: 'noise behind its answers, on a line', quirks: { behind: [0x00, 0xff] }, framing: 'rtu' },
];

const POINT = (address: number): { id: number; kind: 'analog'; at: ModbusAt } => ({
  ...{ id: address, kind: 'analog', at: modbusAt('holdingRegisters', address) },
});
const PERIOD_MS = 1000;
const CALM_S = 300;

/** Ten minutes before one of them. Says what went wrong. */
export function tryOddity({
  quirks,
  settings = {},
  framing = 'tcp',
  listed = LISTED,
  lost = [],
  ...rest
}: Oddity): string[] {
  const { healsAfterS, learned } = rest;
  let now = 1_700_000_000_000;
  const device = new ModelServer(new Map(listed.map((at) => [at, at + 1])), quirks, framing);
  const read = clientSettings.parse({ unitId: UNIT, period1Ms: PERIOD_MS, responseTimeoutMs: 1000, ...settings });
  const options = { octetMs: 0, remembered: null, points: listed.map(POINT), phase: 1 };
  const client = new ModbusClient(read, framing, now, options);
  const lane = new Lane<ClientCommand<ModbusAt, Order>, ClientNews, WireEvent>(
    NO_LINE_TIMING,
    modbusFraming(framing, 'responses', 0),
    now,
  );
  lane.add('D', client, now);
  const values = new Map<number, number>();
  let unreadable: readonly number[] = [];
  let state = 'unknown';
  let opensAt = Infinity;
  const onEffect = (effect: LaneEffect<ClientNews>): void => {
    if (effect.type === 'send') device.receive(effect.octets, now);
    if (effect.type !== 'device') return;
    const { effect: news } = effect;
    if (news.type === 'readings') for (const { id, raw } of news.readings) if (id !== null) values.set(id, raw);
    if (news.type === 'unreadable') unreadable = news.points;
    if (news.type === 'communication') state = news.state;
  };
  const settle = (): void => {
    for (let effects = lane.take(); effects.length > 0; effects = lane.take()) effects.forEach(onEffect);
  };
  const run = (ms: number): void => {
    const end = now + ms;
    for (;;) {
      const next = Math.min(lane.deadline ?? Infinity, device.deadline, opensAt);
      if (next > end) break;
      now = Math.max(now, next);
      for (const octets of device.take(now)) lane.receive(octets, now);
      lane.wake(now);
      settle();
      if (device.closing && device.deadline === Infinity) {
        lane.stop(now);
        device.forget();
        opensAt = now + (quirks.closes?.afterMs ?? 0);
        settle();
      }
      if (now >= opensAt) {
        opensAt = Infinity;
        lane.start(now);
        settle();
      }
    }
    now = end;
  };
  lane.start(now);
  settle();
  const planned = Math.ceil(listed.length / 125) + 4;
  run((healsAfterS ?? CALM_S) * 1000);
  if (healsAfterS !== undefined) {
    device.quirks = {};
    run(CALM_S * 1000);
  }
  // What changes now is known a few periods later.
  for (const at of listed) device.registers.set(at, at + 1000);
  const before = device.requests;
  run(CALM_S * 1000);
  const wrong: string[] = [];
  const gone = healsAfterS === undefined ? lost : [];
  const missing = listed.filter((at) => !gone.includes(at) && values.get(at) !== at + 1000);
  if (missing.length > 0)
    wrong.push(`${missing.length} of ${listed.length} points are not read: ${missing.slice(0, 5).join()}`);
  if (state !== 'answering') wrong.push(`it counts as ${state}`);
  if ([...unreadable].sort((a, b) => a - b).join() !== gone.join())
    wrong.push(`cannot be read are said to be ${unreadable.join()}, not ${gone.join()}`);
  if (learned && !learned.test(client.learned ?? '')) wrong.push(`what is learned: ${client.learned}`);
  const asked = (device.requests - before) / CALM_S;
  const pieces = quirks.most?.registers === 1 ? listed.length : planned + 6;
  if (healsAfterS !== undefined && asked > 3.2) wrong.push(`still asked in pieces: ${asked} requests a second`);
  if (asked > pieces * 2) wrong.push(`${asked} requests a second`);
  return wrong;
}
