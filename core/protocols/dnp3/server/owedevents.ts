import { ByteReader, ByteWriter } from '../../../bytes/index.ts';
import { POINT_KINDS } from '../../../point/index.ts';
import type { OwedRecord } from '../../server.ts';
import type { BufferedEvent } from './eventbuffer.ts';

/**
 * An event of an outstation as it is stored until the master confirms it. Its class is its queue.
 *
 *   kind        1   position in `POINT_KINDS`
 *   variation   1
 *   flags       1
 *   status      1   of a command that was given; 255: it is none
 *   index       4
 *   value       8
 *   time        8
 *   text        …   UTF-8
 */
const NO_STATUS = 255;
const FIXED = 24;

export function owedRecord(event: BufferedEvent): OwedRecord {
  const out = new ByteWriter(FIXED)
    .uint8(POINT_KINDS.indexOf(event.kind))
    .uint8(event.variation)
    .uint8(event.flags)
    .uint8(event.status ?? NO_STATUS)
    .uint32(event.index)
    .float64(event.value)
    .float64(event.time);
  if (event.text !== undefined) out.bytes(new TextEncoder().encode(event.text));
  return { queue: String(event.class), number: event.number, octets: out.finish() };
}

/** Null: it is none that this version knows. */
export function eventOf({ queue, number, octets }: OwedRecord): BufferedEvent | null {
  const eventClass = Number(queue);
  if ((eventClass !== 1 && eventClass !== 2 && eventClass !== 3) || octets.length < FIXED) return null;
  const reader = new ByteReader(octets);
  const kind = POINT_KINDS.at(reader.uint8());
  const [variation, flags, status] = [reader.uint8(), reader.uint8(), reader.uint8()];
  const [index, value, time] = [reader.uint32(), reader.float64(), reader.float64()];
  if (kind === undefined) return null;
  const event: BufferedEvent = { number, kind, index, class: eventClass, value, flags, time, variation };
  if (kind === 'text') event.text = new TextDecoder().decode(reader.take(reader.remaining));
  if (status !== NO_STATUS) event.status = status;
  return event;
}
