import type { PointKind, TimeSource } from '../point/index.ts';
import type { Instant } from '../session/index.ts';

/** A value as a session has read it from its device, in the same terms for every protocol. */
export interface Measured {
  /** Number of its point; null: the device's list has none there. */
  id: number | null;
  kind: PointKind;
  /** In the device's counts, always finite: of what cannot be told as a number the quality says why. */
  raw: number;
  /** Of a text: see `Reading`. */
  text?: string;
  /** Bits of `Quality`. */
  quality: number;
  /** The device's time; null when it gave none. */
  time: Instant | null;
  timeSource: TimeSource;
  /** The device reported a change; else it was asked for the present value. */
  event: boolean;
}

/** A frame as people see it: its octets, and where in it those of a reading stand. */
export interface MarkedFrame {
  octets: Uint8Array;
  /** Positions in `octets`. */
  marked: number[];
  /** Of packed bits: the bit in the marked octet. */
  bit: number | null;
  /** Positions of octets that only carry: headers and checksums. Absent: none. */
  quiet?: readonly number[];
  /** Positions at which lines begin, where the frame has parts; absent: sixteen octets a line. */
  lines?: readonly number[];
}

/** The message that carried readings, kept for their trail: what people ask of it is worked out when they do. */
export interface Carrying<Reading extends Measured = Measured> {
  /** The message in words. */
  words(): string;
  /** How the message carries the reading: `g32v3 i7`. */
  form(reading: Reading): string;
  /** What the device says of the value's quality, in the protocol's own words; null: it says nothing. */
  said(reading: Reading): string | null;
  /** The frames that carried the reading's own octets. */
  frames(reading: Reading): MarkedFrame[];
  /** Its point's address as text. */
  address(reading: Reading): string;
  /**
   * Where in the message the reading stands, as a number by which `again` finds it. For what carries thousands of readings
   * a second: nothing of them stays in memory but this. Absent: the readings themselves are kept.
   */
  place?(reading: Reading): number;
  /** The reading that stands there, without the number of its point; null: none does. */
  again?(place: number): Reading | null;
}
