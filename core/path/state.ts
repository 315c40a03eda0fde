import { z } from 'zod';
import { POINT_KINDS } from '../point/index.ts';

/** The state of each hop of a path, as the engine writes it and the screens show it. Times: ms since 1970 UTC. */

const time = z.number();
const counters = z.record(z.string(), z.number());

export const linkStateSchema = z.object({
  /** resting: made on demand, or by the device, and not needed now. */
  state: z.enum(['connecting', 'connected', 'waiting', 'resting']),
  since: time,
  endpoint: z.string(),
  /** Tries since the last connection. */
  tries: z.number(),
  nextTry: time.nullable(),
  problem: z.string().nullable(),
  /** The devices on it. */
  devices: z.array(z.string()).default([]),
  /** When the first of its certificates, ours or our authority's, is over; null: it has none, or it cannot be read. */
  certificateEnds: time.nullable().default(null),
});

/** A line as those see it who watch who is asked when. Times of turns: ms since 1970 UTC; the rest ms. */
export const laneStateSchema = z.object({
  at: time,
  since: time,
  turns: z.number(),
  sendingMs: z.number(),
  receivingMs: z.number(),
  waitingMs: z.number(),
  turningMs: z.number(),
  otherFrames: z.number(),
  badFrames: z.number(),
  bitRate: z.number(),
  devices: z.record(
    z.string(),
    z.object({ cycleMs: z.number().nullable(), turns: z.number(), silentTurns: z.number(), lineMs: z.number() }),
  ),
  queue: z.array(z.object({ device: z.string(), words: z.string(), since: time })),
  strip: z.array(
    z.object({
      device: z.string(),
      words: z.string(),
      began: time,
      ended: time,
      waitingMs: z.number(),
      sendingMs: z.number(),
      receivingMs: z.number(),
      outcome: z.enum(['answered', 'silent', 'sent']),
    }),
  ),
});
/** What the session of a device knows beside its points, as tables. */
export const detailStateSchema = z.object({
  at: time,
  tables: z.array(
    z.object({
      key: z.string(),
      title: z.string(),
      columns: z.array(z.string()),
      rows: z.array(
        z.object({
          key: z.string(),
          cells: z.array(z.string()),
          time: time.nullable().default(null),
          odd: z.array(z.number()).default([]),
          more: z
            .object({ columns: z.array(z.string()), rows: z.array(z.array(z.string())) })
            .nullable()
            .default(null),
          past: z
            .array(
              z.object({
                ...{ key: z.string(), time, words: z.string() },
                values: z.array(z.tuple([z.string(), z.string()])),
              }),
            )
            .default([]),
        }),
      ),
    }),
  ),
});
export type DetailState = z.infer<typeof detailStateSchema>;
/** Under which code the details of an outbound go; those of a device go under its own. */
export const outboundDetails = (code: string): string => `to ${code}`;
export type LaneState = z.infer<typeof laneStateSchema>;

export const deviceStateSchema = z.object({
  /** resting: it calls, or is called, from time to time, and is not late. */
  state: z.enum(['unknown', 'answering', 'silent', 'resting']),
  since: time,
  words: z.string(),
  lastGood: time.nullable(),
  roundTripMs: z.number().nullable(),
  lastCommit: time.nullable(),
  nextIntegrity: time.nullable(),
  indications: z.array(z.string()),
  /** How it has to be asked, where that is not as its settings say. */
  learned: z.string().nullable().default(null),
  /** Who answers in its place. */
  stranger: z.object({ address: z.number(), destination: z.number(), at: time }).nullable().default(null),
  /** Points that come and that its list lacks. */
  unlisted: z.number().default(0),
  /** The first of them. */
  unlistedPoints: z.array(z.object({ kind: z.enum(POINT_KINDS), address: z.string() })).catch([]),
  /** Its clock against ours when it was last compared: how far ahead, and how sure; milliseconds. */
  clock: z.object({ at: time, offsetMs: z.number(), uncertaintyMs: z.number() }).nullable().default(null),
  /** The comparisons before, oldest first. */
  clockPast: z.array(z.object({ at: time, offsetMs: z.number(), uncertaintyMs: z.number() })).default([]),
  /** Values that are made up while it is on test, by their points. */
  playing: z
    .array(z.object({ id: z.string(), point: z.string(), words: z.string(), by: z.string(), since: time }))
    .default([]),
  counters,
  countersSince: time,
});

export const outboundStateSchema = z.object({
  /** It says nothing of its own accord: that it is connected is all that there is to know. */
  isQuiet: z.boolean().default(false),
  /** We push: nobody asks. */
  pushes: z.boolean().default(false),
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
  /** Put aside: the database calls them bad data. */
  refusedReadings: z.number().default(0),
  /** Why history cannot be written now. */
  historyProblem: z.string().nullable().default(null),
});

export type LinkState = z.infer<typeof linkStateSchema>;
export type DeviceState = z.infer<typeof deviceStateSchema>;
export type OutboundState = z.infer<typeof outboundStateSchema>;
export type EngineState = z.infer<typeof engineStateSchema>;

export const HOP_SCHEMAS = {
  link: linkStateSchema,
  lane: laneStateSchema,
  detail: detailStateSchema,
  device: deviceStateSchema,
  outbound: outboundStateSchema,
  engine: engineStateSchema,
} as const;
export type HopKind = keyof typeof HOP_SCHEMAS;

/** A centre that has said nothing for so long, on a connection that stands, is not there; where centres speak at all. */
export const CENTRE_SILENT_MS = 60_000;

/** A engine whose state is older than this is not running. */
export const ENGINE_STALE_MS = 5000;
