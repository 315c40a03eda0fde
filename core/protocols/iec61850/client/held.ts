import { Quality } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { MmsReading } from '../../mms/carrying.ts';
import type { AccessResult, Data } from '../../mms/wire/data.ts';
import { bitWords, qualityOf } from '../quality.ts';
import type { Stamp } from '../time.ts';
import { partOf, rawOf, stampOf, type RawValue } from './values.ts';
import type { Placing, Wanted } from './wanted.ts';

/** A value as it came, with its quality. */
export interface ModelReading extends MmsReading {
  wanted: Wanted;
  bits: readonly boolean[] | null;
}

/** One member of a data set, or of what was read, that has come. */
export interface Came {
  member: number;
  value: AccessResult;
  event: boolean;
  from: { message: Uint8Array; at: number } | null;
}

interface Known {
  value: RawValue | null;
  data: AccessResult;
  bits: readonly boolean[] | null;
  stamp: Stamp | null;
}

/**
 * What is known of each wanted value: a report may bring its quality alone, or its value without its time. What did not
 * come with it is as it was, but for the time: that of the entry is nearer then.
 */
export class Held {
  private readonly known = new Map<Wanted, Known>();

  /** Readings of all whose value or quality has come. */
  take(placings: readonly (readonly Placing[])[], came: readonly Came[], entryTime: Instant | null): ModelReading[] {
    const touched = new Map<Wanted, Touched>();
    for (const { member, value, event, from } of came)
      for (const { wanted, role, steps } of placings[member] ?? []) {
        const part = partOf(value, steps);
        if (part === null) continue;
        const known = this.of(wanted);
        const news = touched.get(wanted) ?? newlyTouched(known);
        touched.set(wanted, news);
        news.event ||= event;
        news.isWhole &&= steps.length > 0;
        if (role === 'value') {
          [known.data, known.value] = [part, part.type === 'failure' ? null : rawOf(wanted.point.kind, part)];
          news.from = from && { message: from.message, steps: [from.at, ...steps] };
        } else if (role === 'quality') known.bits = part.type === 'bits' ? part.bits : null;
        else {
          known.stamp = stampOf(part);
          news.timed = true;
        }
      }
    const readings: ModelReading[] = [];
    for (const [wanted, { event: isSaid, isWhole, before, timed, from }] of touched) {
      const known = this.of(wanted);
      const event = isSaid && !(isWhole && timed && isSame(before, known));
      // Its quality came before any value did.
      if (known.value === null && known.data === NOTHING) continue;
      readings.push(readingOf(wanted, known, event, timed ? null : entryTime, from));
    }
    return readings;
  }

  private of(wanted: Wanted): Known {
    const known = this.known.get(wanted);
    if (known !== undefined) return known;
    const made: Known = { value: null, data: NOTHING, bits: null, stamp: null };
    this.known.set(wanted, made);
    return made;
  }
}

interface Touched {
  event: boolean;
  timed: boolean;
  from: ModelReading['from'];
  /** It came as parts of its data object: what changed there may have been another part, such as whether it is selected. */
  isWhole: boolean;
  before: Known;
}

const newlyTouched = (known: Known): Touched => ({
  ...{ event: false, timed: false, from: null, isWhole: true },
  before: { value: known.value, data: known.data, bits: known.bits, stamp: known.stamp },
});

/** Whether nothing of a value is another, its time included. */
function isSame(a: Known, b: Known): boolean {
  if (a.value === null || b.value === null) return false;
  const bits = a.bits === b.bits || (a.bits !== null && b.bits !== null && String(a.bits) === String(b.bits));
  const isTime = a.stamp !== null && b.stamp !== null && a.stamp.time === b.stamp.time;
  return bits && isTime && a.value.raw === b.value.raw && a.value.text === b.value.text;
}

const NOTHING: Data = { type: 'octets', octets: new Uint8Array() };

function readingOf(
  wanted: Wanted,
  { value, data, bits, stamp }: Known,
  event: boolean,
  entryTime: Instant | null,
  from: ModelReading['from'],
): ModelReading {
  const { id, kind } = wanted.point;
  const said = bits === null ? 0 : qualityOf(bits);
  const time = entryTime ?? stamp?.time ?? null;
  const doubtful = entryTime === null && stamp !== null && (stamp.notSynchronised || stamp.clockFailure);
  const reading: ModelReading = {
    id,
    kind,
    raw: value?.raw ?? 0,
    quality: said | (value?.quality ?? Quality.saidInvalid),
    time,
    timeSource: time === null ? 'receipt' : doubtful ? 'deviceUnsynchronised' : 'device',
    event,
    wanted,
    bits,
    data,
    from,
  };
  if (value?.text !== undefined) reading.text = value.text;
  return reading;
}

/** What the trail of a reading says of it. */
export const ABOUT = {
  said: ({ bits }: ModelReading): string | null => (bits === null ? null : bitWords(bits)),
  address: ({ wanted: { point } }: ModelReading): string => `${point.at.reference}[${point.at.fc}]`,
};
