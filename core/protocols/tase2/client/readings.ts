import { measuredNumber, Quality } from '../../../point/index.ts';
import type { ClientPoint } from '../../client.ts';
import type { MmsReading } from '../../mms/carrying.ts';
import { dataWords } from '../../mms/describe.ts';
import type { AccessResult } from '../../mms/wire/data.ts';
import { printAt, type TaseAt } from '../points.ts';
import { flagWords, isTimeValid, qualityOf } from '../quality.ts';
import { decode } from '../types.ts';

/* What came of a point, as a reading of it. */

export interface TaseReading extends MmsReading {
  address: string;
  flags: readonly boolean[] | null;
}
export const ABOUT = {
  said: ({ flags }: TaseReading): string | null => (flags === null ? null : flagWords(flags)),
  address: ({ address }: TaseReading): string => address,
};

export interface Came {
  point: ClientPoint<TaseAt>;
  value: AccessResult | undefined;
  from: { message: Uint8Array | null; at: number };
}

export function valueWords(value: AccessResult): string {
  const found = decode(value);
  if (found === null) return dataWords(value);
  return [
    String(Number(found.value.toPrecision(Number.isInteger(found.value) ? 10 : 7))),
    ...(found.flags ? [flagWords(found.flags)] : []),
  ].join(', ');
}

const [BETWEEN, ON, BAD] = [0, 2, 3];

/** Null: it is no value of a point. */
export function readingOf(
  { id, kind, at }: ClientPoint<TaseAt>,
  value: AccessResult,
  event: boolean,
  { message, at: place }: Came['from'],
): TaseReading | null {
  const found = decode(value, at.type);
  if (found === null) return null;
  const { flags, time } = found;
  const number = measuredNumber(found.value);
  let { raw } = number;
  let quality = number.quality | (flags === null ? 0 : qualityOf(flags));
  const isState = at.type === 'auto' ? hasState(value) : at.type === 'State' || at.type === 'StateSupplemental';
  if (kind === 'binary' && isState) {
    // Of one bit there is no state between.
    if (raw === BETWEEN || raw === BAD) quality |= Quality.inconsistent;
    raw = raw === ON ? 1 : 0;
  }
  const isTimed = time !== null && time > 0;
  const doubtful = isTimed && flags !== null && !isTimeValid(flags);
  return {
    id,
    kind,
    raw,
    quality,
    event,
    data: value,
    flags,
    address: printAt(at),
    time: isTimed ? time : null,
    timeSource: !isTimed ? 'receipt' : doubtful ? 'deviceUnsynchronised' : 'device',
    from: message === null ? null : { message, steps: [place] },
  };
}
const hasState = (value: AccessResult): boolean =>
  value.type === 'bits' || (value.type === 'structure' && value.items[0]?.type === 'bits');
