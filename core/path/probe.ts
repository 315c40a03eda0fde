import { z } from 'zod';
import { OBJECT_SCHEMAS } from '../config/index.ts';
import { playSchema } from '../playing/index.ts';
import { POINT_KINDS } from '../point/index.ts';
import { devicePart, orderSchema } from '../protocols/index.ts';

/** A question to the field that a person waits for: does this device answer, or what has it? A row, like a control. */
export const PROBE_STATES = ['requested', 'running', 'good', 'bad', 'cancelled'] as const;
export type ProbeState = (typeof PROBE_STATES)[number];

export const probeRequestSchema = z.discriminatedUnion('type', [
  z.object({
    type: z.literal('try'),
    link: OBJECT_SCHEMAS.link,
    /** What the device's document says of its protocol. */
    device: devicePart,
  }),
  z.object({ type: z.literal('survey'), device: z.string().max(24) }),
  /** Something that is answered in tables. */
  z.object({ type: z.literal('ask'), device: z.string().max(24), order: orderSchema }),
  /** A point of a device on test changes by itself, until that is ended. */
  z.object({ type: z.literal('play'), device: z.string().max(24), point: z.string().max(200), play: playSchema }),
]);
export type ProbeRequest = z.infer<typeof probeRequestSchema>;

const step = z.object({
  /** resolve, connect, or one of the protocol's own. */
  step: z.string().max(24),
  state: z.enum(['running', 'good', 'odd', 'bad']),
  words: z.string(),
  /** What it usually means and what to do next. */
  meaning: z.string(),
  at: z.number(),
});
export type ProbeStep = z.infer<typeof step>;

const surveyed = z.object({
  kind: z.enum(POINT_KINDS),
  address: z.string(),
  form: z.string(),
  value: z.number().nullable(),
  words: z.string().optional(),
  said: z.string(),
  /** What the device calls it, and its unit, where it says so. */
  name: z.string().optional(),
  unit: z.string().optional(),
  time: z.number().nullable().optional(),
});

const followUp = z.object({
  words: z.string(),
  order: z.record(z.string(), z.unknown()),
  fields: z.array(
    z.object({
      ...{ path: z.string(), title: z.string() },
      type: z.enum(['text', 'number', 'boolean', 'choice', 'classes', 'list', 'file']),
      unit: z.string().optional(),
      limits: z.tuple([z.number(), z.number()]).optional(),
      help: z.string().optional(),
    }),
  ),
});
const answered = z.object({
  words: z.string(),
  tables: z.array(
    z.object({
      ...{ title: z.string(), columns: z.array(z.string()) },
      rows: z.array(z.object({ cells: z.array(z.string()), asks: z.array(followUp).default([]) })),
    }),
  ),
});

export const probeResultSchema = z.object({
  steps: z.array(step),
  surveyed: z.array(surveyed).nullable().catch(null),
  /** What the device says of itself; empty where it says nothing. */
  attributes: z.array(z.object({ name: z.string(), text: z.string() })).default([]),
  /** Of what was asked. */
  answered: answered.nullable().default(null),
  problem: z.string().nullable(),
});
export type ProbeResult = z.infer<typeof probeResultSchema>;

export const NO_PROBE_RESULT: ProbeResult = {
  ...{ steps: [], surveyed: null, attributes: [] },
  ...{ answered: null, problem: null },
};
