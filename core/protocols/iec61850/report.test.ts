import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import type { Data } from '../mms/wire/data.ts';
import { decodePdu, encodePdu } from '../mms/wire/pdu.ts';
import { decodeReport, encodeReport, REASONS, reportWords, Segments, type Report } from './report.ts';

const octets = (size: number): fc.Arbitrary<Uint8Array> => fc.uint8Array({ minLength: size, maxLength: size });
const report = (size: number, places: readonly number[], isFull: boolean): fc.Arbitrary<Report> =>
  fc.record({
    id: fc.constant('rptF1'),
    sequence: fc.option(fc.nat(65_535)),
    time: fc.option(octets(6)),
    dataSet: fc.option(fc.constant('HLMF1/LLN0$measurements')),
    overflow: fc.option(fc.boolean()),
    entry: fc.option(octets(8)),
    revision: fc.option(fc.nat(1000)),
    segment: fc.option(fc.record({ number: fc.nat(10), more: fc.boolean() })),
    size: fc.constant(size),
    members: fc.constant(
      places.map((place) => ({
        place,
        reference: isFull ? `HLMF1/GGIO1$ST$Ind${place}` : null,
        value: { type: 'boolean', value: place % 2 === 0 } as Data,
        reasons: isFull ? [REASONS[1 + (place % 6)]] : [],
      })),
    ),
  });
const anyReport = fc
  .tuple(fc.integer({ min: 1, max: 30 }), fc.boolean())
  .chain(([size, isFull]) =>
    fc.subarray(Array.from({ length: size }, (_, at) => at)).chain((places) => report(size, places, isFull)),
  );

describe('reports', () => {
  test('with any of their optional fields: reading is the inverse of writing, through the messages of MMS too', () => {
    fc.assert(
      fc.property(anyReport, (one) => {
        expect(decodeReport(encodeReport(one))).toEqual({ ok: true, value: one });
        const list = { scope: 'vmd' as const, item: 'RPT' };
        const pdu = decodePdu(encodePdu({ type: 'report', variables: { list }, results: encodeReport(one) }));
        expect(pdu.ok && pdu.value.type === 'report' && decodeReport(pdu.value.results)).toEqual({
          ok: true,
          value: one,
        });
      }),
    );
  });

  test('in words', () => {
    const one: Report = {
      ...{
        id: 'rptF1',
        sequence: 41,
        time: null,
        dataSet: null,
        overflow: true,
        entry: null,
        revision: 1,
        segment: null,
      },
      size: 12,
      members: [0, 3, 7].map((place) => ({
        ...{ place, reference: null, reasons: ['data change'] as const },
        value: { type: 'boolean', value: true } as const,
      })),
    };
    expect(reportWords(one)).toBe('rptF1 seq 41: 3 of 12 (data change) after an overflow of the buffer');
    expect(reportWords({ ...one, sequence: null, overflow: null, members: [] })).toBe('rptF1: 0 of 12');
  });

  const text = { type: 'text', text: 'r', wide: false } as const;
  const bits = (...places: number[]): Data => {
    return { type: 'bits', bits: Array.from({ length: 10 }, (_, at) => places.includes(at)) };
  };
  test.each([
    [[], 'it ends before its report id'],
    [[bits()], 'its report id is no text, but bits'],
    [[text, bits(1)], 'it ends before its sequence number'],
    [[text, bits(1), text], 'its sequence number is no number'],
    [[text, bits(), bits(2, 3), text], 'it has fewer values than the 2 that are included'],
    [[text, bits(), bits(2), text, text], '1 values are left over'],
    [[text, bits(3), bits(2), text], 'it ends before its reasons'],
  ] as [Data[], string][])('%#: what is none is refused', (results, problem) => {
    expect(decodeReport(results)).toEqual({ ok: false, problem });
  });

  test('segments become one report; one out of turn is said', () => {
    const whole: Report = {
      ...{
        id: 'r',
        sequence: 7,
        time: null,
        dataSet: null,
        overflow: null,
        entry: null,
        revision: null,
        segment: null,
      },
      size: 6,
      members: Array.from({ length: 6 }, (_, place) => ({
        ...{ place, reference: null, reasons: [] },
        value: { type: 'integer', value: place } as const,
      })),
    };
    const part = (number: number, more: boolean): Report => {
      return { ...whole, segment: { number, more }, members: whole.members.slice(number * 2, number * 2 + 2) };
    };
    const segments = new Segments();
    const nothing = { report: null, problem: null };
    expect([segments.take(part(0, true)), segments.take(part(1, true))]).toEqual([nothing, nothing]);
    expect(segments.take(part(2, false))).toEqual({ report: whole, problem: null });
    expect(segments.take(whole)).toEqual({ report: whole, problem: null });
    segments.take(part(0, true));
    const notAll = 'the rest of a report of r in segments did not come';
    expect(segments.take(part(2, false))).toEqual({ report: null, problem: notAll });
    expect(segments.take(part(1, true))).toMatchObject({ problem: 'segment 1 of r came without those before it' });
    expect(segments.take(part(0, true))).toEqual(nothing);
    expect(segments.take(whole)).toEqual({ report: whole, problem: notAll });
    segments.take(part(0, true));
    expect(segments.take(part(0, true))).toEqual({ report: null, problem: notAll });
    expect(segments.take(part(1, true))).toEqual(nothing);
    expect(segments.take(part(2, false)).report).toEqual(whole);
  });
});
