import { z } from 'zod';
import { POINT_KINDS } from '../point/index.ts';

const time = z.number();

/** What happened to the latest reading of one point at each hop. Times: ms since 1970 UTC; octets in hexadecimal. */
export const trailSchema = z.object({
  pointId: z.number(),
  reading: z.object({
    raw: z.number(),
    value: z.number(),
    text: z.string().optional(),
    quality: z.number(),
    time,
    timeSource: z.string(),
    received: time,
    cause: z.string(),
  }),
  /** The link frames that carried it; marked: positions of its own octets in each. Null: the engine made it. */
  frames: z
    .array(
      z.object({
        octets: z.string(),
        marked: z.array(z.number()),
        bit: z.number().nullable(),
        /** Positions of headers and checksums, and those at which lines begin. */
        quiet: z.array(z.number()).default([]),
        lines: z.array(z.number()).default([]),
      }),
    )
    .nullable(),
  message: z.string().nullable(),
  object: z.string().nullable(),
  /** What the device said of the value's quality, in the protocol's words; null: nothing. */
  said: z.string().nullable().default(null),
  committed: time.nullable(),
  batch: z.number().nullable(),
  outbounds: z.array(
    z.object({
      code: z.string(),
      /** What it is at the centre; a trail of an older version does not say. */
      kind: z.enum(POINT_KINDS).optional(),
      object: z.string(),
      value: z.number(),
      /** What the centre is told of its quality, in the protocol's words. */
      said: z.string().default(''),
      /** Its place in the queue of events; null when its change made no event. */
      eventNumber: z.number().nullable(),
      offered: time,
      reported: time.nullable(),
      confirmed: time.nullable(),
    }),
  ),
});

export type Trail = z.infer<typeof trailSchema>;
