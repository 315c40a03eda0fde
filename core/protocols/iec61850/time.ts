import type { Instant, Result } from '../../session/index.ts';

/*
 * Time stamps (IEC 61850-7-2, 6.1.2.9; as eight octets after IEC 61850-8-1, 8.1.3.6):
 *
 *   seconds since 1970 UTC 4   fraction of the second 3 (in 2^-24)   quality 1:
 *   80 leap seconds are known   40 clock failure   20 clock not synchronised   1F accuracy, bits; 31: not said
 */

export interface Stamp {
  time: Instant;
  leapSecondsKnown: boolean;
  clockFailure: boolean;
  notSynchronised: boolean;
  /** Bits of the fraction that mean something, 0 to 24; null: not said. */
  accuracyBits: number | null;
}

const FRACTION = 2 ** 24;
const NOT_SAID = 31;
const MAX_SECONDS = 0xffff_ffff;

export function decodeStamp(octets: Uint8Array): Result<Stamp, string> {
  if (octets.length !== 8) return { ok: false, problem: `a time stamp of ${octets.length} octets, of 8` };
  const view = new DataView(octets.buffer, octets.byteOffset, octets.length);
  const fraction = (octets[4] << 16) | (octets[5] << 8) | octets[6];
  const accuracy = octets[7] & 0x1f;
  return {
    ok: true,
    value: {
      time: view.getUint32(0) * 1000 + (fraction * 1000) / FRACTION,
      leapSecondsKnown: (octets[7] & 0x80) !== 0,
      clockFailure: (octets[7] & 0x40) !== 0,
      notSynchronised: (octets[7] & 0x20) !== 0,
      accuracyBits: accuracy > 24 ? null : accuracy,
    },
  };
}

/** Times before 1970 and after 2106 become the nearest one that there is. */
export function encodeStamp({
  time,
  leapSecondsKnown,
  clockFailure,
  notSynchronised,
  accuracyBits,
}: Stamp): Uint8Array {
  const octets = new Uint8Array(8);
  const seconds = Math.max(0, Math.min(MAX_SECONDS, Math.floor(time / 1000)));
  const within = Math.max(0, Math.min(0.999_999, time / 1000 - seconds));
  // The nearest one, so that milliseconds come back as they were.
  const fraction = Math.min(FRACTION - 1, Math.round(within * FRACTION));
  new DataView(octets.buffer).setUint32(0, seconds);
  octets.set([fraction >> 16, (fraction >> 8) & 0xff, fraction & 0xff], 4);
  octets[7] =
    (leapSecondsKnown ? 0x80 : 0) |
    (clockFailure ? 0x40 : 0) |
    (notSynchronised ? 0x20 : 0) |
    (accuracyBits === null ? NOT_SAID : Math.max(0, Math.min(24, accuracyBits)));
  return octets;
}

/** How far off a time may be by its accuracy, milliseconds; null: not said (IEC 61850-7-2: T0 10 ms, T1 1 ms, …). */
export const uncertaintyMs = (accuracyBits: number | null): number | null =>
  accuracyBits === null ? null : 1000 / 2 ** accuracyBits;

/** Entry times and times of the day (IEC 61850-8-1, 8.1.3.7): milliseconds of the day 4, days since 1984 2. */
const DAY_MS = 86_400_000;
const EPOCH_1984 = Date.UTC(1984, 0, 1);

export function decodeEntryTime(octets: Uint8Array): Instant | null {
  if (octets.length !== 6) return null;
  const view = new DataView(octets.buffer, octets.byteOffset, octets.length);
  return EPOCH_1984 + view.getUint16(4) * DAY_MS + view.getUint32(0);
}

export function encodeEntryTime(time: Instant): Uint8Array {
  const octets = new Uint8Array(6);
  const view = new DataView(octets.buffer);
  const since = Math.max(0, Math.floor(time) - EPOCH_1984);
  view.setUint32(0, since % DAY_MS);
  view.setUint16(4, Math.min(0xffff, Math.floor(since / DAY_MS)));
  return octets;
}
