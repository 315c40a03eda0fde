import { chosenPoints, kindOfGroup } from './answer.ts';
import { FunctionCode, Iin, type Fragment } from '../wire/application.ts';
import { parseHeaders, type HeaderProblem } from '../wire/header.ts';
import { GROUPS, type PointState, type PointTable } from './pointtable.ts';

/** What requests that are about points, but read no values, ask of an outstation; `iin` is what is wrong with them. */
interface Asked {
  iin: number;
  problem: HeaderProblem | null;
}

const CLEARING: readonly number[] = [FunctionCode.freezeAndClear, FunctionCode.freezeAndClearNoAck];

/** The counters that a freeze is about, and whether they begin at zero again (IEEE 1815, clause 4.4.6). */
export function countersToFreeze(
  fragment: Fragment,
  points: PointTable,
): Asked & { frozen: PointState[]; clears: boolean } {
  const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, false);
  let iin = headers.length === 0 && problem === null ? Iin.parameterError : 0;
  const frozen = new Set<PointState>();
  for (const { group, range } of headers) {
    if (group !== GROUPS.counter.static) {
      iin |= Iin.objectUnknown;
      continue;
    }
    const chosen = chosenPoints(points.ofKind('counter'), range);
    if (!chosen.complete) iin |= Iin.parameterError;
    for (const point of chosen.points) frozen.add(point);
  }
  return { frozen: [...frozen], clears: CLEARING.includes(fragment.functionCode), problem, iin };
}

/** Event classes that a request names, as bits. */
export function classesNamed(fragment: Fragment): Asked & { bits: number } {
  const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, false);
  let [iin, bits] = [0, 0];
  for (const { type, variation } of headers) {
    if (type?.what === 'class' && variation >= 2) bits |= 1 << (variation - 2);
    else iin |= Iin.parameterError;
  }
  return { bits, problem, iin };
}

/** Class headers, each followed by what is to be in that class (IEEE 1815, clause 4.4.9). */
export function classesToAssign(
  fragment: Fragment,
  points: PointTable,
): Asked & { assigned: { point: PointState; eventClass: 0 | 1 | 2 | 3 }[] } {
  const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, false);
  const assigned: { point: PointState; eventClass: 0 | 1 | 2 | 3 }[] = [];
  let iin = 0;
  let eventClass: 0 | 1 | 2 | 3 | null = null;
  for (const { type, group, variation, range } of headers) {
    if (type?.what === 'class') {
      eventClass = (variation - 1) as 0 | 1 | 2 | 3;
      continue;
    }
    const holder = kindOfGroup(group);
    if (eventClass === null || holder?.use !== 'static') {
      iin |= holder === null ? Iin.objectUnknown : Iin.parameterError;
      continue;
    }
    const chosen = chosenPoints(points.ofKind(holder.kind), range);
    if (!chosen.complete) iin |= Iin.parameterError;
    for (const point of chosen.points) assigned.push({ point, eventClass });
  }
  return { assigned, problem, iin };
}
