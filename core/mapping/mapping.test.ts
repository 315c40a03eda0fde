import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { newPoint } from '../pointlist/index.ts';
import { misfitOf, type MappingConfig } from '../config/index.ts';
import { converted, Quality, type PointKind } from '../point/index.ts';
import { addressOf } from '../protocols/definitions.ts';
import { serverSettings } from '../protocols/iec61850/index.ts';
import { bayText } from '../protocols/iec61850/trials/bayfile.ts';
import { dnp3At } from '../protocols/dnp3/index.ts';
import {
  applyRule,
  everyPoint,
  mappingTo,
  matcher,
  usualNumbering,
  type MappingRule,
  type MappingSource,
} from './rules.ts';

const rule = (change: Partial<MappingRule> = {}): MappingRule => ({
  pattern: '',
  kinds: [],
  targetKind: 'same',
  numbering: 'keep',
  start: 0,
  value: 'raw',
  choices: {},
  ...change,
});
const source = (
  kind: MappingSource['kind'],
  index: number | null,
  name = `${kind} ${index}`,
  device = 'D1',
): MappingSource => ({
  device,
  ...newPoint('dnp3', kind, index, name),
});
const targets = (made: ReturnType<typeof applyRule>): string[] =>
  made.rows.map(({ mapping, state, words }) =>
    mapping ? `${state} ${mapping.target.kind} ${addressOf(mapping.target).split(' ')[1]}` : `${state}: ${words}`,
  );

describe('patterns', () => {
  test.each([
    ['', 'anything', true],
    ['D1*', 'D1 Voltage', true],
    ['*volt*', 'D1 Voltage', true],
    ['D?-F1 *', 'D1-F1 x', true],
    ['D1', 'D1 Voltage', false],
    ['a*, *age', 'D1 Voltage', true],
  ])('%s on %s', (pattern, text, expected) => expect(matcher(pattern)(text)).toBe(expected));

  test('any pattern ends at once', () => {
    fc.assert(
      fc.property(fc.string({ unit: fc.constantFrom('*', '?', 'a', 'b'), maxLength: 40 }), (pattern) => {
        matcher(pattern)('a'.repeat(2000));
      }),
    );
  });
});

describe('rules', () => {
  test('all points at once keep their addresses, unless two would meet', () => {
    const one = [source('binary', 0), source('binary', 3), source('analog', 7), source('analog', null)];
    const two = [source('binary', 3, 'other', 'D2')];
    const places = (sources: MappingSource[]): string[] =>
      everyPoint('dnp3', sources, 'raw').map(({ device, target }) => `${device} ${addressOf(target)}`);
    expect(places(one)).toEqual(['D1 BI 0', 'D1 BI 3', 'D1 AI 7']);
    expect(places([...one, ...two])).toEqual(['D1 BI 0', 'D1 BI 1', 'D1 AI 0', 'D2 BI 2']);
    const mapped = everyPoint('dnp3', two, 'raw');
    expect(usualNumbering(rule(), 'dnp3', [source('analog', 7)], mapped)).toBe('series');
  });

  test('where the other end has so many places and no more, they are taken one after the other', () => {
    const settings = serverSettings.parse({ modelFile: { name: 'bay.cid', text: bayText() } });
    const sources = [0, 1, 2].map((index) => source('binary', index));
    const made = applyRule(rule({ choices: { node: 'GGIO1' } }), 'iec61850', sources, [], settings);
    expect(made.rows.map(({ mapping, words }) => (mapping ? addressOf(mapping.target) : words))).toEqual([
      'BAY1/GGIO1.Ind1[ST]',
      'BAY1/GGIO1.Ind2[ST]',
      'BAY1/GGIO1.SPCSO1[ST]',
    ]);
    const mapped = made.rows.flatMap(({ mapping }) => mapping ?? []);
    const more = applyRule(rule({ choices: { node: 'GGIO1' } }), 'iec61850', [source('binary', 9)], mapped, settings);
    expect(targets(more)).toEqual(['misfit: no place is left there for a binary input']);
  });

  test('addresses are kept, moved, or numbered on', () => {
    const sources = [source('binary', 0), source('binary', 3), source('analog', 7)];
    expect(targets(applyRule(rule(), 'dnp3', sources, []))).toEqual(['new binary 0', 'new binary 3', 'new analog 7']);
    expect(targets(applyRule(rule({ start: 100 }), 'dnp3', sources, []))[1]).toBe('new binary 103');
    const mapped = [mappingTo({ device: 'D2', kind: 'binary', at: dnp3At(9) }, 'dnp3', 'binary', 10, 'raw')];
    expect(targets(applyRule(rule({ numbering: 'series', start: 10 }), 'dnp3', sources, mapped))).toEqual([
      'new binary 11',
      'new binary 12',
      'new analog 10',
    ]);
  });

  test('what does not fit is listed with its reason', () => {
    const mapped = [mappingTo({ device: 'D1', kind: 'binary', at: dnp3At(0) }, 'dnp3', 'binary', 5, 'raw')];
    const sources = [
      source('binary', 0),
      source('binary', 5),
      source('analog', null),
      source('text', 1),
      source('output', 2),
    ];
    expect(targets(applyRule(rule(), 'dnp3', sources, mapped))).toEqual([
      'mapped binary 5',
      'misfit: BI 5 is taken there already',
      'new output 2',
      'misfit: it has no address',
      'new text 1',
    ]);
    expect(targets(applyRule(rule({ targetKind: 'counter' }), 'dnp3', [source('analog', 1)], []))[0]).toContain(
      'cannot become a counter',
    );
    expect(targets(applyRule(rule({ start: 65535 }), 'dnp3', [source('analog', 1)], []))[0]).toContain(
      'beyond 0 to 65535',
    );
  });

  test('carried out twice it makes nothing twice', () => {
    const sources = Array.from({ length: 20 }, (_, i) => source('analog', i));
    const first = applyRule(rule({ numbering: 'series' }), 'dnp3', sources, []);
    const made = first.rows.flatMap(({ mapping }) => mapping ?? []);
    const second = applyRule(rule({ numbering: 'series' }), 'dnp3', [...sources, source('analog', 20)], made);
    expect(second.counts).toEqual({ new: 1, mapped: 20, misfit: 0 });
  });
});

describe('conversion', () => {
  const of = (from: PointKind, to: PointKind, raw: number, value: 'raw' | 'engineering' = 'raw'): [number, number] => {
    const made = converted(from, to, raw, 0, { gain: 0.1, offset: -40, pairs: null, range: 'none' }, value);
    return [made.value, made.quality];
  };
  test('states', () => {
    expect(of('binary', 'doubleBit', 1)).toEqual([2, 0]);
    expect(of('binary', 'doubleBit', 0)).toEqual([1, 0]);
    expect([0, 1, 2, 3].map((raw) => of('doubleBit', 'binary', raw))).toEqual([
      [0, Quality.chatter],
      [0, 0],
      [1, 0],
      [0, Quality.chatter],
    ]);
    expect(of('binary', 'analog', 1)).toEqual([1, 0]);
  });

  test('numbers, raw and in units', () => {
    expect(of('analog', 'analog', 650)).toEqual([650, 0]);
    expect(of('analog', 'analog', 650, 'engineering')).toEqual([25, 0]);
    expect(of('counter', 'analog', 7)).toEqual([7, 0]);
  });

  test('a type that cannot hold the value', () => {
    const point = { ...newPoint('dnp3', 'analog', 0, 'x'), pairs: { rawLow: 0, rawHigh: 65535, low: 0, high: 10 } };
    const at = { protocol: 'dnp3', index: 0, staticVariation: 2, eventVariation: 2, eventClass: 2 } as const;
    const offered = (change: object): { target: MappingConfig['target'] } => ({
      target: { kind: 'analog', at, deadband: null, mayControl: true, value: 'raw', ...change },
    });
    expect(misfitOf(point, offered({}))?.words).toContain('does not fit g30v2');
    expect(misfitOf(point, offered({ value: 'engineering' }))?.words).toContain('coarse');
    expect(misfitOf(point, offered({ at: { ...at, staticVariation: 1 } }))).toBeNull();
  });
});
