import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { ByteWriter, fromHex } from '../../../bytes/index.ts';
import { Quality } from '../../../point/index.ts';
import { decodeFragment } from './application.ts';
import { parseHeaders } from './header.ts';
import { measuredReadings } from './measured.ts';
import { decodeMeasurement, encodeMeasurement, OBJECT_TYPES, type MeasurementType } from './objects.ts';

const measurements = OBJECT_TYPES.filter((t): t is MeasurementType => t.what === 'measurement' && t.octets > 0);
const RANGES: Record<string, [number, number]> = {
  int16: [-32768, 32767],
  int32: [-(2 ** 31), 2 ** 31 - 1],
  uint16: [0, 65535],
  uint32: [0, 2 ** 32 - 1],
  flagsBit7: [0, 1],
  flagsBits67: [0, 3],
};

const readingsOf = (hex: string): ReturnType<typeof measuredReadings> => {
  const decoded = decodeFragment(fromHex(hex));
  if (!decoded.ok) throw new Error(decoded.problem);
  return measuredReadings(decoded.value);
};

describe('object library', () => {
  test.each(measurements)('g$group v$variation: decoding is the inverse of encoding', (type) => {
    const [min, max] = RANGES[type.value] ?? [-1000, 1000];
    const flags = { flagsBit7: 0x7f, flagsBits67: 0x3f }[type.value as string] ?? 0xff;
    fc.assert(
      fc.property(
        fc.integer({ min, max }),
        fc.nat(flags),
        fc.nat(2 ** 48 - 1),
        fc.nat(65535),
        (value, f, time, offset) => {
          const at = type.time === 'relative' ? 1000 + offset : time;
          const out = new ByteWriter();
          encodeMeasurement(type, { value, flags: f, time: at }, out, 1000);
          const octets = out.finish();
          expect(octets).toHaveLength(type.octets);
          expect(decodeMeasurement(type, octets, 0, 0, 1000)).toEqual({
            value,
            flags: type.flags ? f : 0x01,
            time: type.time === 'none' ? null : at,
          });
        },
      ),
    );
  });

  test('an analog too large for its object is cut and flagged over range', () => {
    const type = measurements.find((t) => t.group === 30 && t.variation === 2)!;
    const out = new ByteWriter();
    encodeMeasurement(type, { value: 40000, flags: 1, time: null }, out);
    expect(decodeMeasurement(type, out.finish(), 0, 0, null)).toEqual({ value: 32767, flags: 0x21, time: null });
  });

  test('reads each qualifier', () => {
    const values = (objects: string): number[][] =>
      readingsOf(`c0 81 00 00 ${objects}`).readings.map((r) => [r.index, r.value]);
    expect(values('1e 02 00 05 06 01 0a 00 01 0b 00')).toEqual([
      [5, 10],
      [6, 11],
    ]);
    expect(values('1e 02 01 2c 01 2c 01 01 0a 00')).toEqual([[300, 10]]);
    expect(values('1e 02 07 01 01 0a 00')).toEqual([[0, 10]]);
    expect(values('1e 02 08 01 00 01 0a 00')).toEqual([[0, 10]]);
    expect(values('20 02 17 01 09 01 0a 00')).toEqual([[9, 10]]);
    expect(values('20 02 28 01 00 2c 01 01 0a 00')).toEqual([[300, 10]]);
    expect(values('01 01 00 02 0a ff 00')).toEqual([2, 3, 4, 5, 6, 7, 8, 9, 10].map((i) => [i, i < 10 ? 1 : 0]));
  });

  test('relative times count from the common time before them', () => {
    const { readings } = readingsOf('c0 81 00 00 33 01 07 01 e8 03 00 00 00 00 02 03 17 01 04 81 05 00');
    expect(readings).toMatchObject([{ kind: 'binary', index: 4, value: 1, time: 1005, timeSource: 'device' }]);
    const unsynchronised = readingsOf('c0 81 00 00 33 02 07 01 e8 03 00 00 00 00 02 03 17 01 04 81 05 00');
    expect(unsynchronised.readings).toMatchObject([{ time: 1005, timeSource: 'deviceUnsynchronised' }]);
  });

  test('what is cut short, unknown or inverted is a problem that names itself', () => {
    const problem = (hex: string): string | undefined => parseHeaders(fromHex(hex), 0, true).problem?.words;
    expect(problem('1e 01 00 00 05 01 02')).toContain('6 objects need 30 octets, 2 left');
    expect(problem('1e 01 00 05 04')).toContain('stop 4 before start 5');
    expect(problem('63 01 06')).toContain('g99v1');
    expect(problem('1e 01 5f 00')).toContain('qualifier 5f');
    expect(problem('1e')).toContain('at least 3');
  });

  test('no octets whatever make the parser throw', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 300 }), fc.boolean(), (octets, withObjects) => {
        parseHeaders(octets, 0, withObjects);
        const decoded = decodeFragment(octets);
        if (decoded.ok) measuredReadings(decoded.value);
      }),
      { numRuns: 2000 },
    );
  });

  test('what no number can say stands as one that the quality explains', () => {
    // g30v5, points 0 to 2: not a number, infinite, 1.5 (IEEE 754 single precision, low octet first).
    const { readings } = readingsOf('c0 81 00 00 1e 05 00 00 02 01 00 00 c0 7f 01 00 00 80 ff 01 00 00 c0 3f');
    expect(readings.map(({ raw, quality }) => [raw, quality])).toEqual([
      [0, Quality.notANumber],
      [-Number.MAX_VALUE, Quality.underRange],
      [1.5, Quality.good],
    ]);
  });

  test('a reading knows the number of its point, and none where the list has none', () => {
    const decoded = decodeFragment(fromHex('c0 81 00 00 1e 02 00 06 07 01 10 00 01 20 00'));
    if (!decoded.ok) throw new Error(decoded.problem);
    const { readings } = measuredReadings(decoded.value, (kind, index) =>
      kind === 'analog' && index === 7 ? 42 : null,
    );
    expect(readings.map(({ id, raw }) => [id, raw])).toEqual([
      [null, 16],
      [42, 32],
    ]);
  });
});
