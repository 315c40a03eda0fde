import { z } from 'zod';
import {
  CONTROL_OPERATIONS,
  masterSettings,
  outstationSettings,
  pointIndex,
  type ControlOperation,
} from '../dnp3/index.ts';
import { POINT_KINDS } from '../point/index.ts';

/** The configuration as one document: what a revision keeps and the engine runs. Described in docs/formats.md. */

const code = z
  .string()
  .regex(
    /^[A-Z0-9][A-Z0-9-]{0,23}$/,
    'A code has 1 to 24 capital letters, digits and hyphens, and begins with no hyphen',
  );
const name = z.string().trim().min(1, 'A name has at least 1 character').max(80, 'A name has at most 80 characters');
const host = z.string().regex(/^[A-Za-z0-9:._-]{1,253}$/, 'A host is a name or an IP address');
const port = z.number().int().min(1, 'A port is at least 1').max(65535, 'A port is at most 65535');

export const stationSchema = z.object({ code, name, description: z.string().max(400).default('') });

export const linkSchema = z.object({
  code,
  name,
  type: z.literal('tcpClient'),
  host,
  port,
  connectTimeoutMs: z.number().int().min(100).max(120_000).default(5000),
  /** First pause before a new try, doubled up to `reconnectMaxMs`; milliseconds. */
  reconnectFirstMs: z.number().int().min(50).max(60_000).default(250),
  reconnectMaxMs: z.number().int().min(100).max(3_600_000).default(4000),
});

const operations = Object.keys(CONTROL_OPERATIONS) as [ControlOperation, ...ControlOperation[]];

/** The point that shows that a control has happened, and the value that each operation leads to. */
const feedbackSchema = z.object({
  kind: z.enum(POINT_KINDS),
  index: pointIndex,
  expect: z.partialRecord(z.enum(operations), z.number()),
});

export const pointSchema = z.object({
  kind: z.enum(POINT_KINDS),
  index: pointIndex,
  name,
  unit: z.string().max(16).default(''),
  gain: z
    .number()
    .refine((gain) => gain !== 0, 'A gain of 0 would make every value the same')
    .default(1),
  offset: z.number().default(0),
  /** Words for 0 and 1. */
  states: z
    .tuple([z.string().max(24), z.string().max(24)])
    .nullable()
    .default(null),
  control: z
    .object({
      operations: z.array(z.enum(operations)).min(1),
      onMs: z.number().int().min(0).max(600_000).default(500),
      offMs: z.number().int().min(0).max(600_000).default(250),
      feedback: feedbackSchema.nullable().default(null),
      feedbackWithinMs: z.number().int().min(100).max(600_000).default(10_000),
    })
    .nullable()
    .default(null),
});

export const deviceSchema = z.object({
  code,
  name,
  description: z.string().max(400).default(''),
  station: code,
  link: code,
  protocol: z.literal('dnp3'),
  settings: masterSettings,
  points: z.array(pointSchema).max(100_000),
});

export const mappingSchema = z.object({
  device: code,
  kind: z.enum(POINT_KINDS),
  index: pointIndex,
  target: z.object({
    kind: z.enum(POINT_KINDS),
    index: pointIndex,
    eventClass: z.union([z.literal(0), z.literal(1), z.literal(2), z.literal(3)]),
    staticVariation: z.number().int().min(1).max(6),
    eventVariation: z.number().int().min(0).max(8),
    deadband: z.number().min(0).default(0),
  }),
});

export const outboundSchema = z.object({
  code,
  name,
  centre: name,
  protocol: z.literal('dnp3'),
  /** Address and port that our outstation listens on. */
  host,
  port,
  settings: outstationSettings,
  /** A connection that has been quiet for so long gives way to a new one; milliseconds. */
  quietMs: z.number().int().min(1000).max(3_600_000).default(30_000),
  mappings: z.array(mappingSchema).max(100_000),
});

export const configurationSchema = z.object({
  schema: z.literal('halvix.configuration'),
  version: z.literal(1),
  network: name,
  stations: z.array(stationSchema).max(10_000),
  links: z.array(linkSchema).max(10_000),
  devices: z.array(deviceSchema).max(10_000),
  outbounds: z.array(outboundSchema).max(100),
});

export type Configuration = z.infer<typeof configurationSchema>;
export type StationConfig = z.infer<typeof stationSchema>;
export type LinkConfig = z.infer<typeof linkSchema>;
export type DeviceConfig = z.infer<typeof deviceSchema>;
export type PointConfig = z.infer<typeof pointSchema>;
export type OutboundConfig = z.infer<typeof outboundSchema>;
export type MappingConfig = z.infer<typeof mappingSchema>;

export const EMPTY_CONFIGURATION: Configuration = {
  schema: 'halvix.configuration',
  version: 1,
  network: 'New network',
  stations: [],
  links: [],
  devices: [],
  outbounds: [],
};
