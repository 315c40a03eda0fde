import { measuredNumber, Quality, type PointKind } from '../../../point/index.ts';
import type { Measured } from '../../measured.ts';
import { qualityFromFlags } from '../quality.ts';
import { ByteReader } from '../../../bytes/index.ts';
import { Iin, type Fragment } from './application.ts';
import { parseHeaders, type HeaderProblem } from './header.ts';
import { decodeCommand, decodeMeasurement, Flag, type TextType } from './objects.ts';
import { textOf } from './text.ts';

/** One measured value as it stood in a fragment. */
export interface MeasuredReading extends Measured {
  index: number;
  /** As it came: not a number, or infinite, too. */
  value: number;
  /** Flags octet, without the state bit of binaries. */
  flags: number;
  group: number;
  variation: number;
  /** Its octets in the fragment, without the index prefix; for packed bits one octet and the bit in it. */
  at: number;
  octets: number;
  bit: number | null;
}

/** A command that somebody gave the device, as it reports it. */
export interface ReportedCommand {
  kind: PointKind;
  index: number;
  value: number;
  status: number;
  time: number | null;
}

type NumberOf = (kind: PointKind, index: number) => number | null;
const NO_LIST: NumberOf = () => null;

/**
 * All measured values of a response, in order, and what stopped the reading of the rest. `numberOf` knows the points of
 * the device's list.
 */
export function measuredReadings(
  fragment: Fragment,
  numberOf: NumberOf = NO_LIST,
): {
  readings: MeasuredReading[];
  commands: ReportedCommand[];
  problem: HeaderProblem | null;
} {
  const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  const readings: MeasuredReading[] = [];
  const commands: ReportedCommand[] = [];
  let commonTime: number | null = null;
  let commonTimeSynchronised = true;
  const needsTime = ((fragment.iin ?? 0) & Iin.needTime) !== 0;
  for (const header of headers) {
    const { type } = header;
    if (type === undefined) continue;
    if (type.what === 'commonTime' && header.items.length > 0) {
      commonTime = new ByteReader(fragment.octets, header.items[0].at).uint48();
      commonTimeSynchronised = type.variation === 1;
    }
    if (type.what === 'text')
      for (const { index, at } of header.items) readings.push(textReading(type, index, at, fragment.octets, numberOf));
    if (type.what === 'command')
      for (const { index, at } of header.items)
        commands.push({ kind: type.kind, index, ...decodeCommand(type, fragment.octets, at) });
    if (type.what !== 'measurement') continue;
    for (const item of header.items) {
      const { value, flags, time } = decodeMeasurement(type, fragment.octets, item.at, item.bit, commonTime);
      const synchronised = !needsTime && (type.time !== 'relative' || commonTimeSynchronised);
      // Nearly always it is a number: nothing is made for that.
      const odd = Number.isFinite(value) ? null : measuredNumber(value);
      readings.push({
        id: numberOf(type.kind, item.index),
        kind: type.kind,
        index: item.index,
        value,
        raw: odd === null ? value : odd.raw,
        flags,
        quality: qualityFromFlags(type.kind, flags) | (odd?.quality ?? 0),
        time,
        timeSource: time === null ? 'receipt' : synchronised ? 'device' : 'deviceUnsynchronised',
        event: type.use === 'event',
        group: type.group,
        variation: type.variation,
        at: item.at,
        octets: Math.max(1, type.octets),
        bit: type.packedBits > 0 ? item.bit : null,
      });
    }
  }
  return { readings, commands, problem };
}

/** An octet string says nothing of its quality and its time. */
const textReading = (
  { group, variation, use, octets }: TextType,
  index: number,
  at: number,
  fragment: Uint8Array,
  numberOf: NumberOf,
): MeasuredReading => ({
  id: numberOf('text', index),
  kind: 'text',
  index,
  value: 0,
  raw: 0,
  quality: Quality.good,
  text: textOf(fragment.subarray(at, at + octets)),
  flags: Flag.online,
  time: null,
  timeSource: 'receipt',
  event: use === 'event',
  group,
  variation,
  at,
  octets,
  bit: null,
});
