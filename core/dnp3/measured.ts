import type { PointKind, TimeSource } from '../point/index.ts';
import { ByteReader } from '../bytes/index.ts';
import { Iin, type Fragment } from './application.ts';
import { parseHeaders, type HeaderProblem } from './header.ts';
import { decodeCommand, decodeMeasurement } from './objects.ts';

/** One measured value as it stood in a fragment. */
export interface MeasuredReading {
  kind: PointKind;
  index: number;
  value: number;
  /** Flags octet, without the state bit of binaries. */
  flags: number;
  /** The device's time, milliseconds since 1970 UTC; null when it gave none. */
  time: number | null;
  timeSource: TimeSource;
  event: boolean;
  group: number;
  variation: number;
  /** Its octets in the fragment, without the index prefix; for packed bits one octet and the bit in it. */
  at: number;
  octets: number;
  bit: number | null;
}

/** An octet string as it stood in a fragment. */
export interface MeasuredText {
  index: number;
  octets: Uint8Array;
  event: boolean;
}

/** A command that somebody gave the device, as it reports it. */
export interface ReportedCommand {
  kind: PointKind;
  index: number;
  value: number;
  status: number;
  time: number | null;
}

/** All measured values of a response, in order, and what stopped the reading of the rest. */
export function measuredReadings(fragment: Fragment): {
  readings: MeasuredReading[];
  texts: MeasuredText[];
  commands: ReportedCommand[];
  problem: HeaderProblem | null;
} {
  const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  const readings: MeasuredReading[] = [];
  const texts: MeasuredText[] = [];
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
      for (const { index, at } of header.items)
        texts.push({ index, octets: fragment.octets.slice(at, at + type.octets), event: type.use === 'event' });
    if (type.what === 'command')
      for (const { index, at } of header.items)
        commands.push({ kind: type.kind, index, ...decodeCommand(type, fragment.octets, at) });
    if (type.what !== 'measurement') continue;
    for (const item of header.items) {
      const { value, flags, time } = decodeMeasurement(type, fragment.octets, item.at, item.bit, commonTime);
      const synchronised = !needsTime && (type.time !== 'relative' || commonTimeSynchronised);
      readings.push({
        kind: type.kind,
        index: item.index,
        value,
        flags,
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
  return { readings, texts, commands, problem };
}
