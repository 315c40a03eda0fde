import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { checkPoints, draftPointSchema, type DraftPoint } from '../config/index.ts';
import { addressOf, numberOf } from '../protocols/definitions.ts';
import { dnp3At } from '../protocols/dnp3/index.ts';
import { POINT_KINDS } from '../point/index.ts';
import { filledPattern, renamed, replaced, runOfPoints, series } from './edit.ts';
import { newPoint, POINT_FIELDS, pointField, readNumber } from './fields/index.ts';
import {
  csvOf,
  decodeText,
  previewTable,
  readTable,
  tableOf,
  tableOfPoints,
  type Preview,
  type PreviewContext,
} from './table.ts';

const set = (point: DraftPoint, key: string, text: string): DraftPoint | string => {
  const result = pointField(key).set(point, text);
  return result.ok ? result.value : result.problem;
};
const dnp3 = dnp3At(7);
const analog = newPoint('dnp3', 'analog', 7, 'Voltage');

const context = (more: Partial<PreviewContext> = {}): PreviewContext => ({
  device: 'D1',
  kind: 'binary',
  devices: new Map([
    ['D1', 'dnp3'],
    ['D2', 'dnp3'],
  ]),
  known: [],
  ...more,
});
function preview(text: string, more: Partial<PreviewContext> = {}): Preview {
  const table = readTable(text);
  if (!table.ok) throw new Error(table.problem);
  return previewTable(table.value, context(more));
}
const words = (text: string, more: Partial<PreviewContext> = {}): string[] =>
  preview(text, more).problems.map((p) => `row ${p.row}, ${p.column}: ${p.words}`);

/** Any point that a list may hold. */
const anyPoint: fc.Arbitrary<DraftPoint> = fc
  .record({
    kind: fc.constantFrom(...POINT_KINDS),
    at: fc.record({
      protocol: fc.constant('dnp3' as const),
      index: fc.option(fc.nat(65535)),
      eventClass: fc.option(fc.constantFrom(0 as const, 1 as const, 2 as const, 3 as const)),
    }),
    name: fc.stringMatching(/^[A-Za-z][A-Za-z0-9 ,;"'/-]{0,30}[A-Za-z0-9]$/),
    unit: fc.constantFrom('', 'kV', '°C', 'm³/s', '%'),
    gain: fc.constantFrom(1, 0.025, -2),
    offset: fc.constantFrom(0, -40, 0.5),
    pairs: fc.option(
      fc.record({
        rawLow: fc.nat(100),
        rawHigh: fc.integer({ min: 101, max: 4095 }),
        low: fc.integer(),
        high: fc.integer(),
      }),
    ),
    deadband: fc.record({ value: fc.nat(100), of: fc.constantFrom('absolute' as const, 'percentOfSpan' as const) }),
    states: fc.option(fc.constantFrom(['open', 'closed'], ['moving', 'shut', 'open', 'faulty'])),
    normal: fc.option(fc.nat(3)),
    history: fc.constantFrom<DraftPoint['history']>(
      { mode: 'every' },
      { mode: 'deadband' },
      { mode: 'interval', everyMs: 2500 },
      { mode: 'trigger', point: 'BI 3' },
    ),
    inService: fc.boolean(),
    limits: fc.option(
      fc.record({
        lowLow: fc.option(fc.integer()),
        low: fc.option(fc.integer()),
        high: fc.integer(),
        highHigh: fc.option(fc.integer()),
        hysteresis: fc.nat(9),
        delayMs: fc.nat(9000),
      }),
    ),
  })
  .map((fields) => draftPointSchema.parse(fields));

describe('fields', () => {
  test('every field reads what it writes', () => {
    fc.assert(
      fc.property(anyPoint, (point) => {
        for (const field of POINT_FIELDS) {
          const again = field.set(point, field.text(point));
          expect(again.ok, `${field.key}: ${field.text(point)}`).toBe(true);
          if (again.ok) expect(field.text(again.value)).toBe(field.text(point));
        }
      }),
    );
  });

  test('any text gives a value or a reason, never an exception', () => {
    fc.assert(
      fc.property(fc.string({ maxLength: 60 }), anyPoint, (text, point) => {
        for (const field of POINT_FIELDS) field.set(point, text);
      }),
    );
  });

  test.each([
    ['index', '65536', '65536 is not a whole number from 0 to 65535'],
    ['index', '1.5', '1.5 is not a whole number from 0 to 65535'],
    ['kind', 'lamp', '"lamp" is not a kind: BI, DBI, BO, AI, CT, AO, FC, OS'],
    ['gain', '0', 'A gain of 0 would make every value the same'],
    ['gain', '0,5', '"0,5" has a comma: write 0.5'],
    ['gain', '=1/40', '"=1/40" is a formula: give its value'],
    ['gain', '1e999', '"1e999" is not a number'],
    ['name', '', 'A name has at least 1 character'],
    ['name', 'x'.repeat(81), 'A name has at most 80 characters'],
    ['name', '<b>', 'A name has no < or > and no control characters'],
    ['name', '@SUM(1)', '"@SUM(1)" looks like a formula: a text does not begin with = or @'],
    ['unit', 'x'.repeat(17), 'A unit has at most 16 characters'],
    ['deadband', '-1', 'A deadband is at least 0'],
    ['deadband', '120 %', '120 % is more than 100 % of the span'],
    ['states', 'one', '"one" is not two to four words such as open / closed'],
    ['history', 'sometimes', '"sometimes" is not every, deadband, an interval such as 10 s, or on BI 3'],
    ['feedback', 'there', '"there" is not an address such as BI 0 (trip 0, close 1)'],
    ['limit.delayMs', '3600001', undefined],
    ['onMs', '600001', 'The on time is at most 600000 ms'],
  ])('%s "%s" is refused with its limit', (key, text, expected) => {
    const result = set(analog, key, text);
    if (expected === undefined) expect(typeof result).toBe('string');
    else expect(result).toBe(expected);
  });

  test('what one cell may say', () => {
    expect(set(newPoint('dnp3', 'binary', 0, 'x'), 'index', 'AI 12')).toMatchObject({
      kind: 'analog',
      at: { index: 12 },
    });
    expect(set(analog, 'deadband', '2 %')).toMatchObject({ deadband: { value: 2, of: 'percentOfSpan' } });
    expect(set(analog, 'history', '10 min')).toMatchObject({ history: { mode: 'interval', everyMs: 600_000 } });
    expect(set(analog, 'history', 'on BI 3')).toMatchObject({ history: { mode: 'trigger', point: 'BI 3' } });
    const trip = set(newPoint('dnp3', 'output', 0, 'Breaker'), 'operations', 'trip / close') as DraftPoint;
    expect(set(trip, 'feedback', 'BI 0')).toMatchObject({
      control: { feedback: { point: 'BI 0', expect: { trip: 0, close: 1 } } },
    });
    expect(readNumber('-.5e2')).toEqual({ ok: true, value: -50 });
  });
});

describe('tables from outside', () => {
  test('columns are found by their heading, whatever their order', () => {
    const table = readTable('Point Name,DNP Index,Type,EU,Scale\nVoltage,7,AI,kV,0.001\n');
    expect(table.ok && table.value.columns).toEqual(['name', 'index', 'kind', 'unit', 'gain']);
  });

  test('without a heading by what stands in them', () => {
    const table = readTable('BI\t0\tBreaker\nBI\t1\tEarth switch\n');
    expect(table.ok && [table.value.hasHeading, table.value.columns]).toEqual([false, ['kind', 'index', 'name']]);
  });

  test('rows are new, changed, as they are, or wrong', () => {
    const known = [newPoint('dnp3', 'analog', 0, 'A'), newPoint('dnp3', 'analog', 1, 'B')].map((point) => ({
      device: 'D1',
      point,
    }));
    const { counts, rows } = preview('Kind,Address,Name\nAI,0,A\nAI,1,C\nAI,2,D\nAI,2,E\nXX,3,F\n', { known });
    expect(counts).toEqual({ new: 1, changed: 1, same: 1, wrong: 2 });
    expect(rows[1]).toMatchObject({ state: 'changed', known: 1, point: { name: 'C' } });
  });

  test('each problem names row, column and reason', () => {
    expect(words('Kind,Address,Name\nAI,7,\n')).toEqual(['row 2, Name: it has no name']);
    expect(words('Device,Kind,Address,Name\nD9,AI,7,A\n')).toEqual(['row 2, Device: there is no such device']);
    expect(words('Kind,Address,Name\nAI,,A\n')).toEqual(['row 2, Address: it has no address']);
    expect(words('Kind,Address,Name\nAI,1,A\nAI,1,B\n')).toEqual(['row 3, Address: row 2 has this address too']);
  });

  test('the device in front of a name is stored once; missing addresses go on from the last', () => {
    const known = [{ device: 'D1', point: newPoint('dnp3', 'binary', 4, 'x') }];
    const { rows } = preview('Name,Unit\nD1 Door,\nHeater,\n', { known });
    expect(rows.map(({ point }) => [point.name, numberOf(point)])).toEqual([
      ['Door', 5],
      ['Heater', 6],
    ]);
  });

  test('what cannot be read says why', () => {
    expect(decodeText(Uint8Array.from([0x4e, 0x0a, 0xe9, 0x41]))).toMatchObject({
      ok: false,
      problem: expect.stringContaining('row 2: octet 0xe9'),
    });
    expect(decodeText(Uint8Array.from([0xff, 0xfe, 0x41, 0x00]))).toEqual({ ok: true, value: 'A' });
    expect(readTable('a,"b\n').ok).toBe(false);
    expect(readTable('a\u0000b').ok).toBe(false);
    expect(tableOf([]).ok).toBe(false);
    expect(tableOf(Array.from({ length: 100_002 }, () => ['x'])).ok).toBe(false);
  });

  test('a list goes out as CSV and comes back as it was', () => {
    fc.assert(
      fc.property(
        fc.uniqueArray(
          anyPoint.filter((point) => numberOf(point) !== null),
          { selector: addressOf, maxLength: 8 },
        ),
        (points) => {
          const listed = points.map((point) => ({ device: 'D1', point }));
          const table = readTable(csvOf(tableOfPoints(listed)));
          if (points.length === 0) return;
          expect(table.ok).toBe(true);
          if (!table.ok) return;
          const { counts, problems } = previewTable(table.value, context({ known: listed }));
          expect(problems).toEqual([]);
          expect(counts.same).toBe(points.length);
        },
      ),
      { numRuns: 60 },
    );
  });

  test('a name that begins with the code of its device stays as it is', () => {
    const known = [{ device: 'D1', point: newPoint('dnp3', 'binary', 4, 'D1 door') }];
    const table = readTable(csvOf(tableOfPoints(known)));
    expect(table.ok && previewTable(table.value, context({ known })).counts.same).toBe(1);
  });

  test('a text that a spreadsheet would run goes out defused', () => {
    expect(csvOf([['=1+1', '-5', '+x', '@a', 'ok']])).toBe("'=1+1,-5,'+x,'@a,ok");
    // Behind a sign a number is one, and what only begins like one is a formula.
    const numbers = ['-5', '+3', '-0.5', '-1e-3', '-.5', '+1E6'];
    expect(csvOf([numbers])).toBe(numbers.join(','));
    expect(csvOf([['-2+3', "-1+cmd|' /C calc'!A0", '+5 V', '-1e', '\t=1']])).toBe(
      "'-2+3,'-1+cmd|' /C calc'!A0,'+5 V,'-1e,'\t=1",
    );
  });

  test('and comes back as it was', () => {
    const rows = [['-', '+', "'-", '=1', '@a', "it's", '-5', '- x'], Array.from({ length: 8 }, () => 'a')];
    const read = readTable(csvOf(rows));
    expect(read.ok && read.value.rows).toEqual(rows);
  });

  test('no text harms the reader', () => {
    fc.assert(
      fc.property(
        fc.string({
          maxLength: 300,
          unit: fc.constantFrom('a', '1', ',', ';', '\t', '\n', '"', '=', '\r', 'AI', 'Name'),
        }),
        (text) => {
          const table = readTable(text);
          if (table.ok) previewTable(table.value, context());
        },
      ),
    );
  });
});

describe('editing many', () => {
  const where = { station: 'HLM', device: 'HLM-F1' };

  test('a run of points by a pattern', () => {
    const run = runOfPoints(
      { protocol: 'dnp3', kind: 'analog', count: 3, first: 10, pattern: '{station}-{device} Feeder current L{n}' },
      where,
    );
    expect(run.ok && run.value.map((point) => [numberOf(point), point.name])).toEqual([
      [10, 'HLM-HLM-F1 Feeder current L1'],
      [11, 'HLM-HLM-F1 Feeder current L2'],
      [12, 'HLM-HLM-F1 Feeder current L3'],
    ]);
    expect(filledPattern('{device} {n:3} {index:2} {address} {name}', { n: 7, point: analog, context: where })).toBe(
      'HLM-F1 007 07 AI 7 Voltage',
    );
    expect(
      runOfPoints({ protocol: 'dnp3', kind: 'analog', count: 2, first: 65535, pattern: 'x{n}' }, where),
    ).toMatchObject({
      ok: false,
    });
    expect(runOfPoints({ protocol: 'dnp3', kind: 'analog', count: 0, first: 0, pattern: 'x' }, where)).toMatchObject({
      ok: false,
    });
  });

  test('series', () => {
    expect(series(['1'], 3)).toEqual(['2', '3', '4']);
    expect(series(['0', '2'], 3)).toEqual(['4', '6', '8']);
    expect(series(['0.1', '0.2'], 2)).toEqual(['0.3', '0.4']);
    expect(series(['Input 08'], 2)).toEqual(['Input 09', 'Input 10']);
    expect(series(['L1 current'], 2)).toEqual(['L2 current', 'L3 current']);
    expect(series(['same'], 2)).toEqual(['same', 'same']);
  });

  test('find and replace, plain and by expression', () => {
    const points = ['Current L1', 'current (a)', 'Voltage'].map((name, i) => newPoint('dnp3', 'analog', i, name));
    const names = (find: string, put: string, expression: boolean, matchCase = false): (string | null)[] => {
      const result = replaced(points, 'name', find, put, { expression, matchCase });
      if (!result.ok) throw new Error(result.problem);
      return result.value.map((one) => (one === null ? null : one.ok ? one.value.name : one.problem));
    };
    expect(names('(a)', '$1', false)).toEqual([null, 'current $1', null]);
    expect(names('current', 'I', false, true)).toEqual([null, 'I (a)', null]);
    expect(names('^Current L(\\d)$', 'Phase $1', true)).toEqual(['Phase 1', null, null]);
    expect(replaced(points, 'name', '(', '', { expression: true, matchCase: false }).ok).toBe(false);
    expect(names('Voltage', '', false)).toEqual([null, null, 'A name has at least 1 character']);
  });

  test('rename by pattern', () => {
    const result = renamed([analog, analog], '{device} {name} {n}', () => where);
    expect(result.map((one) => one.ok && one.value.name)).toEqual(['Voltage 1', 'Voltage 2']);
  });
});

test.each([
  ['iec61850', 'HLMB1/XCBR1.Pos.stVal[ST]', 'DI'],
  ['tase2', 'NMK/NET_ALARM', 'BI'],
] as const)('a list of %s is taken over by its addresses, which are no numbers', (protocol, address, kind) => {
  const rows = ['Device\tKind\tAddress\tName', `D1\t${kind}\t${address}\tOne`, `D1\t${kind}\t\tNone`];
  const table = readTable(rows.join('\n'));
  if (!table.ok) throw new Error(table.problem);
  const context = { device: null, kind, devices: new Map([['D1', protocol]]), known: [] };
  const { counts, problems } = previewTable(table.value, { ...context, kind: 'binary' });
  expect(counts).toMatchObject({ new: 1, wrong: 1 });
  expect(problems.map(({ row, words }) => [row, words])).toEqual([[3, 'it has no address']]);
});

test('no two fields have the same key; what several protocols have is one, and each point asks its own', () => {
  const keys = POINT_FIELDS.map(({ key }) => key);
  expect(new Set(keys).size).toBe(keys.length);
  const way = pointField('way');
  expect(way.protocols).toEqual(['iec61850', 'tase2']);
  const point = newPoint('tase2', 'analog', null, 'Tie');
  const set = way.set(point, 'poll');
  expect(set.ok && set.value.at).toMatchObject({ protocol: 'tase2', way: 'poll' });
  expect(way.text(newPoint('dnp3', 'analog', 1, 'x'))).toBe('');
});

describe('problems of a list', () => {
  const problems = (points: DraftPoint[]): string[] =>
    checkPoints(points, null).map(({ row, field, words: w }) => `${row} ${field}: ${w}`);
  const point = (change: Partial<DraftPoint>): DraftPoint => ({ ...analog, ...change });

  test('stand in their row, with a fix where one is clear', () => {
    const list = [point({}), point({ name: 'Other' }), point({ at: { ...dnp3, index: null }, name: 'Third' })];
    const found = checkPoints(list, null);
    expect(found.map(({ row, words: w, fix }) => [row, w, fix?.set])).toEqual([
      [1, 'another point has this address', { at: { ...dnp3, index: 8 } }],
      [2, 'it has no address', { at: { ...dnp3, index: 9 } }],
    ]);
  });

  test.each<[Partial<DraftPoint>, string]>([
    [{ pairs: { rawLow: 20, rawHigh: 4, low: 0, high: 100 } }, 'the raw pair is the wrong way round'],
    [{ pairs: { rawLow: 4, rawHigh: 4, low: 0, high: 100 } }, 'no line goes through them'],
    [{ range: 'liveZero' }, 'a range check needs two pairs'],
    [{ deadband: { value: 5, of: 'percentOfSpan' } }, 'a deadband in per cent needs a span'],
    [
      { pairs: { rawLow: 0, rawHigh: 100, low: 0, high: 10 }, deadband: { value: 11, of: 'absolute' } },
      'larger than the span of 10',
    ],
    [{ limits: { lowLow: null, low: 9, high: 3, highHigh: null, hysteresis: 0, delayMs: 0 } }, 'do not rise'],
    [{ history: { mode: 'trigger', point: 'BI 9' } }, 'its trigger BI 9 is not in the list'],
    [{ kind: 'binary', states: ['a', 'b', 'c', 'd'] }, '4 state words, and the kind has 2 states'],
  ])('%#: %j', (change, expected) => expect(problems([point(change)]).join()).toContain(expected));
});
