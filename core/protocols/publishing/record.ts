import { ByteReader, ByteWriter } from '../../bytes/index.ts';
import { POINT_KINDS } from '../../point/index.ts';
import type { OwedRecord } from '../server.ts';
import type { ToldValue } from './form.ts';

/**
 * A value that waits for its packet, as it is kept until the destination has it.
 *
 *     ┌─────────┬────────┬─────────┬──────┬───────┬───────┬─────────┬──────┬───────────┬───────────┐
 *     │ version │ packet │ dropped │ kind │ flags │ value │ quality │ time │ address   │ text      │
 *     │ 1       │ f64    │ u32     │ 1    │ 1     │ f64   │ u32     │ f64  │ u16, UTF-8│ u16, UTF-8│
 *     └─────────┴────────┴─────────┴──────┴───────┴───────┴─────────┴──────┴───────────┴───────────┘
 *
 * `packet` is the number of the first value in its packet; numbers beyond 2^48 stand as doubles. Flags: bit 0, the time is of
 * a clock that is not set; bit 1, there is a text.
 */
export interface WaitingValue extends Omit<ToldValue, 'name' | 'unit'> {
  packet: number;
  /** So many were dropped since the one before it was made. */
  dropped: number;
}

const VERSION = 1;
const MOST_TEXT = 0xffff;

export function encodeValue(value: WaitingValue): Uint8Array {
  const address = new TextEncoder().encode(value.address).subarray(0, MOST_TEXT);
  const text = new TextEncoder().encode(value.text ?? '').subarray(0, MOST_TEXT);
  return new ByteWriter(40 + address.length + text.length)
    .uint8(VERSION)
    .float64(value.packet)
    .uint32(value.dropped)
    .uint8(POINT_KINDS.indexOf(value.kind))
    .uint8((value.unsynchronised ? 1 : 0) | (value.text === null ? 0 : 2))
    .float64(value.value)
    .uint32(value.quality)
    .float64(value.time)
    .uint16(address.length)
    .bytes(address)
    .uint16(text.length)
    .bytes(text)
    .finish();
}

/** Null: it is none of ours. */
export function decodeValue({ number, octets }: OwedRecord): WaitingValue | null {
  const HEAD = 1 + 8 + 4 + 1 + 1 + 8 + 4 + 8;
  const reader = new ByteReader(octets);
  if (octets.length < HEAD + 4 || reader.uint8() !== VERSION) return null;
  const [packet, dropped, kindAt, flags] = [reader.float64(), reader.uint32(), reader.uint8(), reader.uint8()];
  const [value, quality, time] = [reader.float64(), reader.uint32(), reader.float64()];
  const piece = (): string | null => {
    if (reader.remaining < 2) return null;
    const length = reader.uint16();
    return length > reader.remaining ? null : new TextDecoder().decode(reader.take(length));
  };
  const [address, text] = [piece(), piece()];
  const kind = POINT_KINDS[kindAt];
  if (address === null || text === null || kind === undefined) return null;
  const unsynchronised = (flags & 1) !== 0;
  return {
    number,
    packet,
    dropped,
    kind,
    value,
    quality,
    time,
    address,
    unsynchronised,
    text: flags & 2 ? text : null,
  };
}
