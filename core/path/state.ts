import { z } from 'zod';

/** The state of each hop of a path, as the engine writes it and the screens show it. Times: ms since 1970 UTC. */

const time = z.number();
const counters = z.record(z.string(), z.number());

export const linkStateSchema = z.object({
  state: z.enum(['connecting', 'connected', 'waiting']),
  since: time,
  endpoint: z.string(),
  /** Tries since the last connection. */
  tries: z.number(),
  nextTry: time.nullable(),
  problem: z.string().nullable(),
});

export const deviceStateSchema = z.object({
  state: z.enum(['unknown', 'answering', 'silent']),
  since: time,
  words: z.string(),
  lastGood: time.nullable(),
  roundTripMs: z.number().nullable(),
  lastCommit: time.nullable(),
  nextIntegrity: time.nullable(),
  indications: z.array(z.string()),
  counters,
  countersSince: time,
});

export const outboundStateSchema = z.object({
  state: z.enum(['listening', 'failed']),
  since: time,
  problem: z.string().nullable(),
  /** Address of the centre's connection; null while there is none. */
  connectedFrom: z.string().nullable(),
  connectionSince: time.nullable(),
  lastHeard: time.nullable(),
  lastConfirmed: time.nullable(),
  eventsWaiting: z.number(),
  connectionsRefused: z.number(),
  lastProblem: z.object({ time, words: z.string() }).nullable(),
  counters,
  countersSince: time,
});

export const engineStateSchema = z.object({
  startedAt: time,
  revision: z.number().nullable(),
  readingsPerSecond: z.number(),
  queuedReadings: z.number(),
  droppedReadings: z.number(),
});

export type LinkState = z.infer<typeof linkStateSchema>;
export type DeviceState = z.infer<typeof deviceStateSchema>;
export type OutboundState = z.infer<typeof outboundStateSchema>;
export type EngineState = z.infer<typeof engineStateSchema>;

export const HOP_SCHEMAS = {
  link: linkStateSchema,
  device: deviceStateSchema,
  outbound: outboundStateSchema,
  engine: engineStateSchema,
} as const;
export type HopKind = keyof typeof HOP_SCHEMAS;

/** A engine whose state is older than this is not running. */
export const ENGINE_STALE_MS = 5000;
