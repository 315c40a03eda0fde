import { z } from 'zod';
import { OBJECT_SCHEMAS } from '../config/index.ts';
import { POINT_KINDS } from '../point/index.ts';

/** A question to the field that a person waits for: does this device answer, or what has it? A row, like a control. */
export const PROBE_STATES = ['requested', 'running', 'good', 'bad', 'cancelled'] as const;
export type ProbeState = (typeof PROBE_STATES)[number];

export const probeRequestSchema = z.discriminatedUnion('type', [
  z.object({
    type: z.literal('try'),
    link: OBJECT_SCHEMAS.link,
    settings: OBJECT_SCHEMAS.device.shape.settings,
  }),
  z.object({ type: z.literal('survey'), device: z.string().max(24) }),
]);
export type ProbeRequest = z.infer<typeof probeRequestSchema>;

const step = z.object({
  step: z.enum(['resolve', 'connect', 'linkStatus', 'read']),
  state: z.enum(['running', 'good', 'odd', 'bad']),
  words: z.string(),
  /** What it usually means and what to do next. */
  meaning: z.string(),
  at: z.number(),
});
export type ProbeStep = z.infer<typeof step>;

const surveyed = z.object({
  kind: z.enum(POINT_KINDS),
  index: z.number(),
  group: z.number(),
  variation: z.number(),
  value: z.number(),
  flags: z.number(),
});

export const probeResultSchema = z.object({
  steps: z.array(step),
  surveyed: z.array(surveyed).nullable(),
  /** What the device says of itself; empty where it says nothing. */
  attributes: z.array(z.object({ variation: z.number(), name: z.string(), text: z.string() })).default([]),
  problem: z.string().nullable(),
});
export type ProbeResult = z.infer<typeof probeResultSchema>;

export const NO_PROBE_RESULT: ProbeResult = { steps: [], surveyed: null, attributes: [], problem: null };
