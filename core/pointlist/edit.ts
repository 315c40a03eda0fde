import type { DraftPoint } from '../config/index.ts';
import { addressOf, type ProtocolCode, pointsOf } from '../protocols/index.ts';
import type { PointKind } from '../point/index.ts';
import type { Result } from '../session/index.ts';
import { newPoint, pointField } from './fields/index.ts';

export interface PatternContext {
  station: string;
  device: string;
}

/**
 * Fills a name pattern: `{n}` counts from 1, `{n:3}` with leading zeros, `{index}` is the protocol address,
 * `{address}` the same in words, `{name}` the name so far, `{station}` and `{device}` the codes.
 */
export function filledPattern(
  pattern: string,
  { n, point, context }: { n: number; point: Pick<DraftPoint, 'kind' | 'at' | 'name'>; context: PatternContext },
): string {
  return pattern.replace(/\{(n|index)(?::(\d))?\}|\{(name|station|device|address)\}/g, (whole, count, width, word) => {
    if (count === 'n') return String(n).padStart(Number(width ?? 1), '0');
    if (count === 'index')
      return String(pointsOf(point.at.protocol).number(point.at) ?? '').padStart(Number(width ?? 1), '0');
    if (word === 'name') return point.name;
    if (word === 'address') return addressOf(point);
    return word === 'station' ? context.station : word === 'device' ? context.device : String(whole);
  });
}

/** The device's code in front of a name is stored once, with the device: `HLM-F1 Current` is kept as `Current`. */
const withoutDevice = (name: string, { device }: PatternContext): string =>
  name.startsWith(`${device} `) ? name.slice(device.length + 1) : name;

export interface Run {
  protocol: ProtocolCode;
  kind: PointKind;
  count: number;
  first: number;
  pattern: string;
}

/** A run of points with following addresses. */
export function runOfPoints(
  { protocol, kind, count, first, pattern }: Run,
  context: PatternContext,
): Result<DraftPoint[], string> {
  if (!Number.isInteger(count) || count < 1 || count > 65536)
    return { ok: false, problem: `Count: ${count} is not from 1 to 65536` };
  const { highest, width } = pointsOf(protocol);
  const step = width(newPoint(protocol, kind, null, '-'));
  if (!Number.isInteger(first) || first < 0 || first + count * step - 1 > highest)
    return { ok: false, problem: `First address: ${first} with ${count} points goes beyond 0 to ${highest}` };
  const points: DraftPoint[] = [];
  for (let i = 0; i < count; i++) {
    const blank = newPoint(protocol, kind, first + i * step, '-');
    const name = withoutDevice(filledPattern(pattern, { n: i + 1, point: blank, context }), context);
    const set = pointField('name').set(blank, name);
    if (!set.ok) return { ok: false, problem: `Name pattern: ${set.problem}` };
    points.push(set.value);
  }
  return { ok: true, value: points };
}

/** The names that a pattern would give, in order; each with what is wrong with it. */
export function renamed(
  points: readonly DraftPoint[],
  pattern: string,
  contextOf: (row: number) => PatternContext,
): Result<DraftPoint, string>[] {
  return points.map((point, row) => {
    const context = contextOf(row);
    return pointField('name').set(
      point,
      withoutDevice(filledPattern(pattern, { n: row + 1, point, context }), context),
    );
  });
}

/** Finds and replaces in one field; rows without a match are null. */
export function replaced(
  points: readonly DraftPoint[],
  fieldKey: string,
  find: string,
  replacement: string,
  options: { expression: boolean; matchCase: boolean },
): Result<(Result<DraftPoint, string> | null)[], string> {
  const field = pointField(fieldKey);
  let expression: RegExp;
  try {
    expression = new RegExp(
      options.expression ? find : find.replace(/[.*+?^${}()|[\]\\]/g, '\\$&'),
      options.matchCase ? 'gu' : 'giu',
    );
  } catch (error) {
    return { ok: false, problem: `Find: ${error instanceof Error ? error.message : String(error)}` };
  }
  if (find === '') return { ok: false, problem: 'Find: nothing to look for' };
  const put = options.expression ? replacement : replacement.replace(/\$/g, '$$$$');
  return {
    ok: true,
    value: points.map((point) => {
      const before = field.text(point);
      const after = before.replace(expression, put);
      return after === before ? null : field.set(point, after);
    }),
  };
}

/**
 * Goes on with what stands in the first cells: numbers by their step, texts that end in a number by one, anything
 * else by repeating it.
 */
export function series(given: readonly string[], count: number): string[] {
  const out: string[] = [];
  const numbers = given.map(Number);
  const numeric = given.length > 0 && given.every((text, i) => text.trim() !== '' && Number.isFinite(numbers[i]));
  if (numeric) {
    const last = numbers[numbers.length - 1];
    const step = numbers.length > 1 ? last - numbers[numbers.length - 2] : 1;
    const places = Math.max(...given.map((text) => text.split('.')[1]?.length ?? 0));
    for (let i = 1; i <= count; i++) out.push(String(Number((last + step * i).toFixed(places))));
    return out;
  }
  const tail = given[given.length - 1] ?? '';
  const match = /^(.*?)(\d+)(\D*)$/.exec(tail);
  for (let i = 1; i <= count; i++) {
    if (match) out.push(`${match[1]}${String(Number(match[2]) + i).padStart(match[2].length, '0')}${match[3]}`);
    else out.push(given[(i - 1) % given.length] ?? '');
  }
  return out;
}
