import { numberOnWire, qualityWords, validity, type PointKind } from '../../point/index.ts';
import type { Message, Packet, ToldValue } from '../publishing/form.ts';
import { placeOf } from './target.ts';

/*
 * Halvix's own message: one time and named values (docs/formats.md, Value message). A message holds one such object, or
 * a list of them in the order of their ids.
 *
 *   { "id": 1796000000000001, "time": 1796000000000, "values": { "AI 7": 132.4, "BI 3": true },
 *     "quality": { "BI 3": "invalid: no communication" } }
 */
interface ValueObject {
  /** Ascends over restarts: by it a receiver drops what comes twice. */
  id: number;
  /** Milliseconds since 1970 UTC. */
  time: number;
  /** There when the device's clock is not set. */
  clock?: 'not set';
  /** So many values before this were dropped, because too many waited. */
  dropped?: number;
  values: Record<string, number | boolean | string | null>;
  /** Of those that are not good. */
  quality?: Record<string, string>;
}

/** A packet as messages, one for each topic in the order of the first value that goes there. */
export function messages(packet: Packet): Message[] {
  const topics = new Map<string, ValueObject[]>();
  packet.values.forEach((told, at) => {
    const { topic, name } = placeOf(told.address);
    const objects = topics.get(topic) ?? [];
    topics.set(topic, objects);
    const last = objects.at(-1);
    const object = last !== undefined && goesInto(last, told, name) ? last : begun(told, objects);
    if (at === 0 && packet.dropped > 0) object.dropped = packet.dropped;
    put(object, name, told);
  });
  return [...topics].map(([to, objects]) => ({
    to,
    octets: new TextEncoder().encode(JSON.stringify(objects.length === 1 ? objects[0] : objects)),
  }));
}

const goesInto = (object: ValueObject, told: ToldValue, name: string): boolean =>
  object.time === told.time &&
  (object.clock !== undefined) === told.unsynchronised &&
  !Object.hasOwn(object.values, name);

function begun({ number, time, unsynchronised }: ToldValue, objects: ValueObject[]): ValueObject {
  const object: ValueObject = { id: number, time, ...(unsynchronised ? { clock: 'not set' } : {}), values: named() };
  objects.push(object);
  return object;
}

/** Names are anybody's: also `__proto__`. */
const named = <Value>(): Record<string, Value> => Object.create(null) as Record<string, Value>;

function put(object: ValueObject, name: string, told: ToldValue): void {
  object.values[name] = spoken(told);
  const { quality } = told;
  if (quality === 0) return;
  const reasons = qualityWords(quality);
  (object.quality ??= named())[name] = reasons === '' ? validity(quality) : `${validity(quality)}: ${reasons}`;
}

const IS_YES_OR_NO: readonly PointKind[] = ['binary', 'output'];

/** JSON has no infinities and nothing that is no number. */
function spoken({ kind, value, text, quality }: ToldValue): number | boolean | string | null {
  if (kind === 'text') return text ?? '';
  if (IS_YES_OR_NO.includes(kind)) return value !== 0;
  const number = numberOnWire(value, quality);
  if (!Number.isFinite(number)) return null;
  // What scaling leaves behind the digits that a number of 64 bits surely has is none of the value: 27.182000000000002.
  return Number.isInteger(number) ? number : Number(number.toPrecision(15));
}
