import type { PointKind, TimeSource } from '../point/index.ts';
import { ByteReader } from '../bytes/index.ts';
import { Iin, type Fragment } from './application.ts';
import { parseHeaders, type HeaderProblem } from './header.ts';
import { decodeMeasurement } from './objects.ts';

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

/** All measured values of a response, in order, and what stopped the reading of the rest. */
export function measuredReadings(fragment: Fragment): { readings: MeasuredReading[]; problem: HeaderProblem | null } {
  const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  const readings: MeasuredReading[] = [];
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
        bit: type.octets === 0 ? item.bit : null,
      });
    }
  }
  return { readings, problem };
}
