import { dataWords } from '../../mms/describe.ts';
import type { AccessResult, Data, TypeOf } from '../../mms/wire/data.ts';
import { bitWords, QUALITY_BITS } from '../quality.ts';
import { decodeStamp } from '../time.ts';
import { partOf } from './values.ts';
import { stepsTo } from './wanted.ts';

/** The attributes of a value that are nothing but values, each by the names that lead to it. */
export function leavesIn(
  of: TypeOf,
  value: AccessResult,
  path: readonly string[] = [],
): { path: readonly string[]; data: AccessResult }[] {
  if (of.type !== 'structure' || value.type !== 'structure') return [{ path, data: value }];
  return of.components.flatMap((part, at) => {
    const data: Data | undefined = value.items[at];
    return data === undefined ? [] : leavesIn(part.of, data, [...path, part.name]);
  });
}

/** The same attribute of another value; null: it has none there. */
export function partNamed(of: TypeOf, value: AccessResult, path: readonly string[]): AccessResult | null {
  const steps = stepsTo(of, path);
  return steps && partOf(value, steps);
}

/** An attribute's value in words: quality and time in the standard's, the others as they are. */
export function attributeWords(path: readonly string[], data: AccessResult | null): string {
  if (data === null) return '';
  if (data.type === 'bits' && data.bits.length === QUALITY_BITS && path.at(-1) === 'q') return bitWords(data.bits);
  if (data.type !== 'utcTime') return dataWords(data);
  const stamp = decodeStamp(data.octets);
  return stamp.ok ? new Date(stamp.value.time).toISOString().slice(0, 23).replace('T', ' ') : dataWords(data);
}
