import { beforeEach, describe, expect, test } from 'vitest';
import { fromHex, toHex } from '../../../bytes/index.ts';
import { INVALID, Quality, type PointKind } from '../../../point/index.ts';
import { outcome, type CentreOrder, type ControlOutcome } from '../../control.ts';
import type { ServerCommand, ServerEffect } from '../../server.ts';
import { targetAtSchema, type ModbusTargetAt, type Table } from '../points.ts';
import { server as side } from '../sessions.ts';
import { serverSettings } from '../settings.ts';
import { encodeFrame, type FramingName } from '../wire/frame.ts';
import { ModbusServer } from './server.ts';

const UNIT = 9;
const NOW = 1_700_000_000_000;

type Spot = readonly [kind: PointKind, table: Table, address: number, more?: Partial<ModbusTargetAt>];
const placed = ([kind, table, address, more]: Spot): { kind: PointKind; at: ModbusTargetAt } => ({
  kind,
  at: { ...targetAtSchema.parse({ protocol: 'modbus', table, address }), ...more },
});

const hex = (octets: Uint8Array): string => toHex(octets).replaceAll(' ', '');

let server: ModbusServer;
let spots: readonly Spot[];
let effects: ServerEffect[];
let framing: FramingName;
const say = (command: ServerCommand<ModbusTargetAt>): void => {
  server.command(command, NOW);
  effects.push(...server.take());
};
function begin(of: readonly Spot[], settings: object = {}, over: FramingName = 'tcp'): void {
  [spots, framing] = [of, over];
  const read = serverSettings.parse({ unitId: UNIT, ...settings });
  server = new ModbusServer(read, framing, 0, of.map((spot) => ({ ...placed(spot), deadband: 0 })) as never, NOW);
  say({ type: 'came', peer: 1 });
}
const tell = (n: number, value: number, quality = 0, text?: string): void =>
  say({ type: 'update', updates: [{ ...placed(spots[n]), value, quality, time: NOW, ...(text ? { text } : {}) }] });
/** Asks, and returns what was answered at once: the units' octets. */
function ask(pdu: string, unit = UNIT, alone = false): string[] {
  effects = [];
  say({ type: 'octets', peer: 1, octets: encodeFrame(framing, 1, unit, fromHex(pdu)), alone });
  return answers();
}
const answers = (): string[] =>
  effects.flatMap((effect) => (effect.type === 'send' ? hex(effect.octets.subarray(framing === 'tcp' ? 7 : 1)) : []));
const orders = (): CentreOrder[] => effects.flatMap((effect) => (effect.type === 'control' ? effect.items : []));
/** All that was asked for is answered so. */
function settle(result: ControlOutcome = outcome('done')): string[] {
  const asked = effects.flatMap((effect) => (effect.type === 'control' ? effect : []));
  effects = [];
  for (const { token, items } of asked) say({ type: 'controlResult', token, outcomes: items.map(() => result) });
  return answers();
}

beforeEach(() => {
  effects = [];
});

describe('a mask write (Modbus Application Protocol V1.1b3, 6.16)', () => {
  const bits = [0, 2, 5].map((bit): Spot => ['output', 'holdingRegisters', 4, { bit }]);
  beforeEach(() =>
    begin([...bits, ['setpoint', 'holdingRegisters', 7], ['binary', 'holdingRegisters', 8, { bit: 1 }]]),
  );

  test('operates the bits that it names and no other, whatever they were known to be', () => {
    tell(0, 1);
    tell(1, 0);
    // The bits 0 and 2 may change: 0 to off, 2 to on. What the second mask says of others does not count.
    expect(ask('160004fffa0024')).toEqual([]);
    expect(orders().map(({ address, on }) => [address, on])).toEqual([
      ['HR 4.0', false],
      ['HR 4.2', true],
    ]);
    expect(settle()).toEqual(['160004fffa0024']);
  });

  test('asks for a bit again that is known to be so already: the device may have another', () => {
    tell(0, 1);
    ask('160004fffe0001');
    expect(orders().map(({ address, on }) => [address, on])).toEqual([['HR 4.0', true]]);
  });

  test.each([
    ['a bit that is no output', '160008fffd0002'],
    ['a bit that is mapped to nothing', '160004fffd0002'],
    ['a register that is a number', '160007fffe0001'],
    ['a register that is not there', '160063ffff0000'],
  ])('is refused for %s, and operates nothing', (_what, pdu) => {
    expect(ask(pdu)).toEqual(['9602']);
    expect(orders()).toEqual([]);
  });

  test('that names no bit is answered', () => {
    expect(ask('160004ffff0000')).toEqual(['160004ffff0000']);
    expect(orders()).toEqual([]);
  });

  test('of the device says what it says', () => {
    ask('160004fffe0001');
    expect(settle({ result: 'refused', status: 6, protocol: 'modbus' })).toEqual(['9606']);
  });
});

describe('a write of a whole register that is made of bits', () => {
  test('operates those that differ, and those of which nothing is known', () => {
    begin([0, 1, 2].map((bit): Spot => ['output', 'holdingRegisters', 4, { bit }]));
    tell(0, 1);
    tell(1, 1);
    ask('0600040001');
    expect(orders().map(({ address, on }) => [address, on])).toEqual([
      ['HR 4.1', false],
      ['HR 4.2', false],
    ]);
  });
});

describe('read and write at once (6.17)', () => {
  beforeEach(() => {
    begin(
      [0, 1, 2].map((n): Spot => ['setpoint', 'holdingRegisters', n]),
      { fillsGaps: false },
    );
    [11, 12, 13].forEach((value, n) => tell(n, value));
  });

  test('writes nothing where what is to be read is not there', () => {
    expect(ask('170002000200000001020063')).toEqual(['9702']);
    expect(orders()).toEqual([]);
  });

  test('reads what it has written', () => {
    // Reads 0 to 2; writes 1 and 2.
    ask('1700000003000100020400630064');
    expect(orders().map(({ address, counts }) => [address, counts])).toEqual([
      ['HR 1', 99],
      ['HR 2', 100],
    ]);
    expect(settle()).toEqual(['1706000b00630064']);
  });

  test('reads less than it writes, before and behind', () => {
    ask('1700010001000000030600630064' + '0065');
    expect(settle()).toEqual(['17020064']);
  });

  test('says what the device says, and hands nothing out', () => {
    ask('170000000300010001020063');
    expect(settle({ result: 'failed', status: null, protocol: null })).toEqual(['9704']);
    expect(effects.filter(({ type }) => type === 'read')).toEqual([]);
  });
});

describe('what is no value', () => {
  const FORMS: Spot[] = [
    ['analog', 'inputRegisters', 0, { type: 'float32' }],
    ['analog', 'inputRegisters', 2, { type: 'float64' }],
    ['analog', 'inputRegisters', 6, { type: 'int16' }],
    ['binary', 'discreteInputs', 0],
    ['text', 'inputRegisters', 10, { type: 'text', registers: 2 }],
  ];

  test('a float that is no number is served as none, infinities as such', () => {
    begin(FORMS);
    tell(0, 0, Quality.notANumber);
    tell(1, 0, Quality.notANumber);
    expect([ask('0400000002'), ask('0400020004')]).toEqual([['04047fc00000'], ['04087ff8000000000000']]);
    tell(0, Number.MAX_VALUE, Quality.overRange);
    tell(1, -Number.MAX_VALUE, Quality.underRange);
    expect([ask('0400000002'), ask('0400020004')]).toEqual([['04047f800000'], ['0408fff0000000000000']]);
  });

  test('a whole number, a bit and a text that nobody has said are refused, and it is said which', () => {
    begin(FORMS);
    expect([ask('0400060001'), ask('0200000001'), ask('04000a0002')]).toEqual([['8404'], ['8204'], ['8404']]);
    expect(ask('0400060001')).toEqual(['8404']);
    expect(effects).toContainEqual({
      type: 'diagnostic',
      words: 'IR 6 was read and has no value to show: exception 04',
    });
    ask('0400060001');
    expect(effects.filter(({ type }) => type === 'diagnostic')).toEqual([]);
    tell(2, -5);
    tell(3, 1);
    tell(4, 0, 0, 'AB');
    expect([ask('0400060001'), ask('0200000001'), ask('04000a0002')]).toEqual([
      ['0402fffb'],
      ['020101'],
      ['040441420000'],
    ]);
  });

  test('a value from before its device was lost is the last one, one that never came is none', () => {
    begin(FORMS);
    tell(2, 7, Quality.commLost);
    tell(3, 0, Quality.notSet);
    expect([ask('0400060001'), ask('0200000001')]).toEqual([['04020007'], ['8204']]);
    tell(2, 0, Quality.notANumber);
    expect(ask('0400060001')).toEqual(['8404']);
  });

  test('where the settings say so, the value that says there is none', () => {
    begin(FORMS, { invalid: 'none' });
    expect([ask('0400060001'), ask('0400000002'), ask('0200000001')]).toEqual([
      ['04028000'],
      ['04047fc00000'],
      ['8204'],
    ]);
    tell(2, 7, INVALID);
    expect(ask('0400060001')).toEqual(['04028000']);
    tell(2, 7);
    expect(ask('0400060001')).toEqual(['04020007']);
  });

  test('an output that says nothing of itself is a gap', () => {
    const outputs: Spot[] = [
      ['output', 'coils', 0],
      ['setpoint', 'holdingRegisters', 0],
    ];
    begin(outputs);
    expect([ask('0100000001'), ask('0300000001')]).toEqual([['010100'], ['03020000']]);
    begin(outputs, { fillsGaps: false });
    expect([ask('0100000001'), ask('0300000001')]).toEqual([['8104'], ['8304']]);
  });
});

test('whole numbers of 64 bits keep all their digits', () => {
  begin([
    ['counter', 'inputRegisters', 0, { type: 'uint64' }],
    ['analog', 'inputRegisters', 4, { type: 'int64', order: 'CDAB' }],
  ]);
  tell(0, Number('18446744073709551615'), 0, '18446744073709551615');
  tell(1, Number('-9223372036854775807'), 0, '-9223372036854775807');
  expect([ask('0400000004'), ask('0400040004')]).toEqual([['0408ffffffffffffffff'], ['04080001000000008000']]);
  // Without digits, or with those of another number, the nearest that there is.
  tell(0, 2 ** 60);
  expect(ask('0400000004')).toEqual(['04081000000000000000']);
  tell(0, 2 ** 70, 0, '5');
  tell(1, -(2 ** 70));
  expect([ask('0400000004'), ask('0400040004')]).toEqual([['0408fffffffffffff800'], ['04080000000000008000']]);
});

describe('whom a request means', () => {
  const SPOTS: Spot[] = [
    ['setpoint', 'holdingRegisters', 0],
    ['output', 'coils', 3],
  ];

  test.each(['rtu', 'ascii'] as const)('%s: a write to all units is carried out and not answered', (over) => {
    begin(SPOTS, {}, over);
    expect(ask('0600000007', 0)).toEqual([]);
    expect(orders()).toMatchObject([{ address: 'HR 0', counts: 7 }]);
    expect(settle()).toEqual([]);
    ask('050003ff00', 0);
    expect(orders()).toMatchObject([{ address: 'CO 3', on: true }]);
  });

  test('of what all units of a line are asked nobody reads anything', () => {
    begin(SPOTS, {}, 'rtu');
    tell(0, 5);
    expect(ask('0300000001', 0)).toEqual([]);
    expect(effects).toEqual([]);
    ask('0300000001');
    expect(effects).toContainEqual({ type: 'read', addresses: ['HR 0'] });
  });

  test.each([0, 255])('over TCP unit %i is whoever is there, where that is one', (unit) => {
    begin(SPOTS);
    tell(0, 5);
    expect([ask('0300000001', unit, true), ask('0300000001', unit, false)]).toEqual([['03020005'], []]);
    expect([ask('0300000001', 8, true), ask('0300000001', UNIT)]).toEqual([[], ['03020005']]);
  });

  const named = (units: readonly number[], over: FramingName, unit: number): string[] =>
    side
      .recogniser(
        units.map((unitId) => ({ code: `U${unitId}`, settings: serverSettings.parse({ unitId }) })),
        { framing: over, octetMs: 0 },
      )
      .push(encodeFrame(over, 1, unit, fromHex('0600000007')), NOW);

  test('its connection is theirs', () => {
    expect(named([1, 2], 'rtu', 0)).toEqual(['U1', 'U2']);
    expect(named([1, 2], 'rtu', 255)).toEqual([]);
    expect([named([1, 2], 'tcp', 0), named([1, 2], 'tcp', 255), named([1, 2], 'tcp', 2)]).toEqual([[], [], ['U2']]);
    expect([named([1], 'tcp', 0), named([1], 'tcp', 255), named([1], 'tcp', 2)]).toEqual([['U1'], ['U1'], []]);
    expect(named([255, 2], 'tcp', 255)).toEqual(['U255']);
  });
});
