import type { z } from 'zod';
import type { PointKind } from '../point/index.ts';

/** A point's place in its protocol, with what else only that protocol says of a point. */
export interface At {
  protocol: string;
}

/** A point as its address is made from it. */
export interface Placed<Of extends At = At> {
  kind: PointKind;
  at: Of;
}

/**
 * How a protocol says where a point is. Printed, an address is the text by which people, files, mappings and other points
 * name it; with its device it is the point's identity, so it holds nothing that may be corrected later (a type, a word
 * order, a scaling).
 */
export interface PointAddressing<Of extends At, Draft extends At, Target extends At> {
  protocol: Of['protocol'];
  /** Of a point that runs. */
  at: z.ZodType<Of>;
  /** Of one in a draft: the address itself may be missing still. */
  draftAt: z.ZodType<Draft>;
  /** Of a point towards a centre. */
  targetAt: z.ZodType<Target>;
  /** Empty while it has none. */
  print(point: Placed<Of | Draft | Target>): string;
  /** What people write: as printed, or nearly; null when it is none. */
  parse(text: string): Placed<Of> | null;
  /** A text whose order is the one in which people read the points. */
  sort(point: Placed<Of | Draft | Target>): string;
}
