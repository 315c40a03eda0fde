import { fromHex, toHex } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import { z } from 'zod';

/** The last report of a buffered block that was handed out, by which it goes on. */
export interface LastEntry {
  id: Uint8Array;
  /** Null: it gave none. */
  time: Instant | null;
}

const stored = z.record(
  z.string(),
  z.object({ id: z.string().regex(/^[0-9a-f ]{0,200}$/), time: z.number().nullable() }),
);

/** What a later session of the device has to know: entries by the names of their blocks. */
export const packed = (entries: ReadonlyMap<string, LastEntry>): Uint8Array =>
  new TextEncoder().encode(
    JSON.stringify(Object.fromEntries([...entries].map(([name, { id, time }]) => [name, { id: toHex(id), time }]))),
  );

/** What is no such thing is nothing: reports begin anew then. */
export function unpacked(octets: Uint8Array | null): Map<string, LastEntry> {
  if (octets === null || octets.length === 0) return new Map();
  try {
    const read = stored.safeParse(JSON.parse(new TextDecoder().decode(octets)));
    if (!read.success) return new Map();
    return new Map(Object.entries(read.data).map(([name, { id, time }]) => [name, { id: fromHex(id), time }]));
  } catch {
    return new Map();
  }
}
