import { dataWords } from '../../mms/describe.ts';
import type { AccessResult, Data, TypeOf } from '../../mms/wire/data.ts';
import { typeIn } from '../model/model.ts';
import { print, type Reference } from '../model/reference.ts';
import { bitWords, QUALITY_BITS } from '../quality.ts';
import { decodeStamp } from '../time.ts';
import { partOf } from './values.ts';
import type { LastReport } from './reports.ts';
import { stepsTo, type NodeTypes } from './wanted.ts';

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

const MOST_CHANGES = 40;

/** What is another in a report than it was before, attribute by attribute: reference, before, now, reasons. */
export function changesIn(members: readonly Reference[], { report, before }: LastReport, types: NodeTypes): string[][] {
  const changes: string[][] = [];
  for (const { place, value, reasons } of report.members) {
    const reference = members[place];
    const node = types(reference.device, reference.node);
    const of = node && typeIn(node, reference);
    const had = before.get(place);
    if (of === null || had === undefined) continue;
    for (const { path, data } of leavesIn(of, value)) {
      if (changes.length >= MOST_CHANGES) return changes;
      const [was, is] = [attributeWords(path, partNamed(of, had, path)), attributeWords(path, data)];
      const name = print({ ...reference, path: [...reference.path, ...path] });
      if (was !== is) changes.push([name, was, is, reasons.join(', ')]);
    }
  }
  return changes;
}

/** What a report says, attribute by attribute, in its order. */
export function* valuesIn(
  members: readonly Reference[],
  report: LastReport['report'],
  types: NodeTypes,
): Generator<readonly [name: string, value: string]> {
  for (const { place, value } of report.members) {
    const reference = members[place];
    const node = types(reference.device, reference.node);
    const of = node && typeIn(node, reference);
    if (of === null) continue;
    for (const { path, data } of leavesIn(of, value))
      yield [print({ ...reference, path: [...reference.path, ...path] }), attributeWords(path, data)];
  }
}
