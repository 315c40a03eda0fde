import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { fromHex, toHex as spaced } from '../../bytes/index.ts';
import { isFloat, ORDERS, readValue, TYPE_LIMITS, TYPES, writeValue, type ValueType } from './values.ts';

const toHex = (octets: Uint8Array): string => spaced(octets).replaceAll(' ', '');

describe('how values lie in registers', () => {
  // 123456.75 as IEEE 754 single precision is 47F12060; what the four orders make of it is common practice.
  test.each([
    ['ABCD', '47f12060'],
    ['CDAB', '206047f1'],
    ['BADC', 'f1476020'],
    ['DCBA', '6020f147'],
  ] as const)('%s', (order, octets) => {
    expect(readValue(fromHex(octets), 'float32', order).value).toBe(123456.75);
    expect(toHex(writeValue(123456.75, 'float32', order, 2))).toBe(octets);
  });

  test.each([
    ['uint16', 'ffff', 65535],
    ['int16', 'ffff', -1],
    ['uint32', '00010000', 65536],
    ['int32', 'fffffffe', -2],
    ['bcd16', '1234', 1234],
    ['bcd32', '12345678', 12345678],
    ['time32', '00000001', 1],
    ['float64', '3ff8000000000000', 1.5],
  ] as const)('%s %s is %d', (type, octets, value) => {
    expect(readValue(fromHex(octets), type, 'ABCD')).toMatchObject({ value });
    expect(toHex(writeValue(value, type, 'ABCD', octets.length / 4))).toBe(octets);
  });

  test('64 bits keep all their digits', () => {
    expect(readValue(fromHex('ffffffffffffffff'), 'uint64', 'ABCD')).toMatchObject({ text: '18446744073709551615' });
    expect(readValue(fromHex('8000000000000000'), 'int64', 'ABCD')).toMatchObject({ text: '-9223372036854775808' });
    expect(readValue(fromHex('0000000000000007'), 'int64', 'ABCD')).toEqual({ value: 7 });
  });

  test('texts: up to the first NUL, without blanks at the end, whatever the octets of a register do', () => {
    expect(readValue(fromHex('4d3432200041'), 'text', 'ABCD').text).toBe('M42');
    expect(readValue(fromHex('344d0032'), 'text', 'BADC').text).toBe('M42');
    expect(readValue(fromHex('c3a4'), 'text', 'ABCD').text).toBe('??');
  });

  test('what is no value says so', () => {
    expect(readValue(fromHex('1a34'), 'bcd16', 'ABCD').value).toBeNaN();
    expect(readValue(fromHex('7fc00000'), 'float32', 'ABCD').value).toBeNaN();
  });

  test('what is written is read again, in every type and order', () => {
    const types = (Object.keys(TYPES) as ValueType[]).filter((type) => type !== 'text');
    fc.assert(
      fc.property(
        fc.constantFrom(...types),
        fc.constantFrom(...ORDERS),
        fc.double({ noNaN: true }),
        (type, order, x) => {
          const [low, high] = TYPE_LIMITS[type];
          const inside = Math.min(
            high,
            Math.max(low, isFloat(type) ? x : Math.round(Math.min(1e15, Math.max(-1e15, x)))),
          );
          const value = type === 'float32' ? Math.fround(inside) : inside;
          if (!Number.isFinite(value)) return;
          const read = readValue(writeValue(value, type, order, TYPES[type]), type, order);
          expect(read.value === value || (read.value === 0 && value === 0)).toBe(true);
        },
      ),
    );
  });
});
