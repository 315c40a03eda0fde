import '../../words/index.ts';
import { z } from 'zod';
import { LINK_TYPES } from '../../line/index.ts';
import {
  devicePart,
  FIRST_PROTOCOL,
  outboundPart,
  pointAt,
  PROTOCOLS,
  targetPointAt,
  wayOut,
} from '../../protocols/index.ts';
import { OPERATIONS, POINT_KINDS, RANGE_CHECKS } from '../../point/index.ts';
import { EVERYBODY, isNetwork } from './access.ts';

/** The configuration as one document: what a revision keeps and the engine runs. Described in docs/formats.md. */

export const codeSchema = z
  .string()
  .regex(
    /^[A-Z0-9][A-Z0-9-]{0,23}$/,
    'A code has 1 to 24 capital letters, digits and hyphens, and begins with no hyphen',
  );
const code = codeSchema;
// eslint-disable-next-line no-control-regex
const NOT_IN_TEXT = /[<>\u0000-\u001f\u007f]/;
const plain = (what: string, most: number): z.ZodString =>
  z
    .string()
    .max(most, `${what} has at most ${most} characters`)
    .refine((text) => !NOT_IN_TEXT.test(text), `${what} has no < or > and no control characters`);
const name = plain('A name', 80).trim().min(1, 'A name has at least 1 character');
const description = plain('A description', 400).default('');
const host = z.string().regex(/^[A-Za-z0-9:._-]{1,253}$/, 'A host is a name or an IP address');
const port = z
  .number({ error: 'A port is a whole number' })
  .int('A port is a whole number')
  .min(1, 'A port is at least 1')
  .max(65535, 'A port is at most 65535');
/** Who may connect. Documents from before there was such a list let everybody in; new ones begin with loopback. */
const allowFrom = z
  .array(
    z
      .string()
      .max(64)
      .refine(isNetwork, { error: ({ input }) => `${String(input)} is no address and no network like 10.1.0.0/16` }),
  )
  .max(100, 'At most 100 networks')
  .default([...EVERYBODY]);
const finite = z.number({ error: 'must be a number' });
const milliseconds = (what: string, low: number, high: number): z.ZodNumber =>
  z
    .number({ error: `${what} is a number of milliseconds` })
    .int(`${what} is a whole number of milliseconds`)
    .min(low, `${what} is at least ${low} ms`)
    .max(high, `${what} is at most ${high} ms`);

export const stationSchema = z.object({ code, name, description });

const file = plain('A file name', 400).default('');

/** Both ends show a certificate; files in the engine's folder for them, PEM. */
const tls = z
  .object({
    use: z.boolean().default(false),
    authorityFile: file,
    certificateFile: file,
    keyFile: file,
    /** Certificates that count no more (a revocation list); empty: none. */
    revocationFile: file,
    /** The name in the other end's certificate; empty: the host, of a peer that calls us any name. */
    serverName: plain('A server name', 253).default(''),
  })
  .prefault({});

export const linkSchema = z.object({
  code,
  name,
  type: z.enum(LINK_TYPES),
  /** What it carries: all devices on it speak that. */
  protocol: z.enum(PROTOCOLS).default(FIRST_PROTOCOL),
  /** How its frames are told apart, where the protocol leaves a choice. */
  framing: z.string().max(16, 'A framing has at most 16 characters').default(''),
  /** The other side's address; of a tcpServer, ours to listen on. */
  host: host.default('127.0.0.1'),
  port: port.default(20_000),
  /** Another address of the same device or centre, at the same port: tried in turn. Empty: it has none. */
  standbyHost: z.union([host, z.literal('')]).default(''),
  /** Our own UDP port; 0: any. */
  localPort: z.number().int().min(0, 'A port is at least 0').max(65535, 'A port is at most 65535').default(0),
  /** The serial port of this machine. */
  serialPort: z
    .string()
    .regex(/^([A-Za-z0-9._/-]{1,200})?$/, 'A serial port has letters, digits, points, slashes and hyphens')
    .default(''),
  connectTimeoutMs: milliseconds('The connect time-out', 100, 120_000).default(5000),
  /** First pause before a new try, doubled up to `reconnectMaxMs`; milliseconds. */
  reconnectFirstMs: milliseconds('The first pause', 50, 60_000).default(250),
  reconnectMaxMs: milliseconds('The longest pause', 100, 3_600_000).default(4000),
  /** The line behind the link, serial or radio; a bit rate of 0: there is none. */
  line: z
    .object({
      bitRate: z.number().int().min(0, 'A bit rate is at least 0').max(10_000_000).default(0),
      dataBits: z.union([z.literal(7), z.literal(8)]).default(8),
      parity: z.enum(['none', 'even', 'odd']).default('none'),
      stopBits: z.union([z.literal(1), z.literal(2)]).default(1),
      keyUpMs: milliseconds('The key-up time', 0, 10_000).default(0),
      keyDownMs: milliseconds('The key-down time', 0, 10_000).default(0),
      quietMs: milliseconds('The quiet time', 0, 60_000).default(0),
      /** The transmitter is keyed by the RTS line of the serial port. */
      keyWithRts: z.boolean().default(false),
    })
    .prefault({}),
  /** Of a tcpServer: from where devices may call. Of outbounds each has its own list. */
  allowFrom,
  tls,
  /** For links that are not always up. */
  calls: z
    .object({
      when: z.enum(['always', 'onDemand']).default('always'),
      /** How often we call; 0: only by hand or for a control. */
      everyMs: milliseconds('The calling period', 0, 604_800_000).default(3_600_000),
      /** We hang up when there was nothing to do for so long. */
      idleMs: milliseconds('The idle time', 100, 3_600_000).default(2000),
      /** Without a call for so long the device counts as lost; 0: whenever the link is away. */
      lateAfterMs: milliseconds('The longest silence', 0, 2_592_000_000).default(0),
    })
    .prefault({}),
});

/** Bits of a character on the line: start bit, data, parity, stop bits. */
export const bitsPerOctet = ({ line }: LinkConfig): number =>
  1 + line.dataBits + (line.parity === 'none' ? 0 : 1) + line.stopBits;

/** Where a link leads, as people say it. */
export function endpointWords({ type, host, port, serialPort }: LinkConfig): string {
  switch (type) {
    case 'tcpClient':
      return `${host}:${port}`;
    case 'tcpServer':
      return `calls to ${host}:${port}`;
    case 'udp':
      return `UDP ${host}:${port}`;
    case 'serial':
      return serialPort;
    default:
      return type satisfies never;
  }
}

/** The way to a centre in short: the port that it calls, or where the link leads. */
const wayWords = (link: LinkConfig | undefined): string =>
  link === undefined ? 'no link' : link.type === 'tcpServer' ? `port ${link.port}` : endpointWords(link);

/** The same of any outbound: one that needs no link says itself where it leads. */
export const outboundWayWords = (
  { protocol, settings }: Pick<OutboundConfig, 'protocol' | 'settings'>,
  link: LinkConfig | undefined,
): string => {
  const way = wayOut(protocol);
  return way?.links.length === 0 ? way.where(settings) : wayWords(link);
};

const ipv4 = z
  .string()
  .regex(/^((25[0-5]|2[0-4]\d|1?\d?\d)\.){3}(25[0-5]|2[0-4]\d|1?\d?\d)$/, 'An IPv4 address has four numbers to 255');
/** One network of a radio. */
const radioNetwork = z.object({
  address: ipv4,
  /** Bits of the network. */
  prefix: z.number().int().min(8, 'A prefix is at least 8').max(30, 'A prefix is at most 30').default(24),
});

/** A radio of the address plan: its radio side and its wired side are two networks. */
export const radioSchema = z.object({ code, name, station: code, radioSide: radioNetwork, wiredSide: radioNetwork });

/** Another point of the same device, by its address as text. */
const reference = z
  .string()
  .min(1, 'An address has at least 1 character')
  .max(200, 'An address has at most 200 characters');

/** The point that shows that a control has happened, and the value that each operation leads to. */
const feedbackSchema = z.object({
  point: reference,
  expect: z.partialRecord(z.enum(OPERATIONS), z.number()),
});

const limitSchema = finite.nullable().default(null);

/** How an analog output is set. */
const settingSchema = z.object({
  /** What may be sent, in the point's unit. */
  low: limitSchema,
  high: limitSchema,
  /** The point that follows; null: the output's own status. */
  feedback: reference.nullable().default(null),
  /** How near it has to come, in its unit; half a count always counts as there. */
  tolerance: finite.min(0, 'A tolerance is at least 0').default(0),
  feedbackWithinMs: milliseconds('The wait for the feedback', 100, 600_000).default(10_000),
});

export const pointSchema = z.object({
  kind: z.enum(POINT_KINDS),
  at: pointAt,
  name,
  description,
  unit: plain('A unit', 16).default(''),
  gain: finite.refine((gain) => gain !== 0, 'A gain of 0 would make every value the same').default(1),
  offset: finite.default(0),
  /** Scaling through two pairs, instead of gain and offset. */
  pairs: z.object({ rawLow: finite, rawHigh: finite, low: finite, high: finite }).nullable().default(null),
  /** What counts as outside the range that the pairs give. */
  range: z.enum(RANGE_CHECKS).default('none'),
  deadband: z
    .object({
      value: finite.min(0, 'A deadband is at least 0'),
      of: z.enum(['absolute', 'percentOfSpan']).default('absolute'),
    })
    .default({ value: 0, of: 'absolute' }),
  limits: z
    .object({
      lowLow: limitSchema,
      low: limitSchema,
      high: limitSchema,
      highHigh: limitSchema,
      hysteresis: finite.min(0, 'A hysteresis is at least 0').default(0),
      delayMs: milliseconds('A delay', 0, 3_600_000).default(0),
    })
    .nullable()
    .default(null),
  /** Words for the states: 0 and 1, or the four of a double-bit point. */
  states: z.array(plain('A state word', 24)).min(2).max(4).nullable().default(null),
  /** The state that is nothing to look at. */
  normal: z.number().int().min(0).max(3).nullable().default(null),
  /** What of its readings history keeps. */
  history: z
    .discriminatedUnion('mode', [
      z.object({ mode: z.literal('every') }),
      z.object({ mode: z.literal('deadband') }),
      z.object({ mode: z.literal('interval'), everyMs: milliseconds('The interval', 100, 86_400_000) }),
      /** Its value is kept whenever the trigger point rises. */
      z.object({ mode: z.literal('trigger'), point: reference }),
    ])
    .default({ mode: 'every' }),
  inService: z.boolean().default(true),
  control: z
    .object({
      operations: z.array(z.enum(OPERATIONS)).min(1),
      onMs: milliseconds('The on time', 0, 600_000).default(500),
      offMs: milliseconds('The off time', 0, 600_000).default(250),
      feedback: feedbackSchema.nullable().default(null),
      feedbackWithinMs: milliseconds('The wait for the feedback', 100, 600_000).default(10_000),
    })
    .nullable()
    .default(null),
  /** Of an analog setpoint, or a text that may be written; null: it is only seen. */
  setting: settingSchema.nullable().default(null),
});

/**
 * - drafted: written down, not collected.
 * - onTest: collected and seen, passed on to centres only when asked for.
 * - inService: collected and passed on.
 * - outOfService: not polled; its points say so.
 */
export const DEVICE_LIVES = ['drafted', 'onTest', 'inService', 'outOfService'] as const;
export type DeviceLife = (typeof DEVICE_LIVES)[number];

const deviceCommon = z.object({
  code,
  name,
  description,
  station: code,
  /** Empty: its protocol has none. */
  link: z.union([code, z.literal('')]),
  life: z.enum(DEVICE_LIVES).default('inService'),
  /** While on test: hand its points to centres all the same. */
  passOnWhileOnTest: z.boolean().default(false),
});
/** A device without its list; its protocol says what settings it has. */
export const deviceObjectSchema = deviceCommon.and(devicePart);
const deviceSchema = deviceCommon
  .extend({ points: z.array(pointSchema).max(100_000, 'A device has at most 100 000 points') })
  .and(devicePart);

export const mappingTargetSchema = z.object({
  kind: z.enum(POINT_KINDS),
  at: targetPointAt,
  /** In what is handed on; null: the point's own deadband. */
  deadband: finite.min(0, 'A deadband is at least 0').nullable().default(0),
  /** Whether the centre may operate it, where the outbound lets it operate at all. */
  mayControl: z.boolean().default(true),
  /** Which of its values is handed on. */
  value: z.enum(['raw', 'engineering']).default('raw'),
});

export const mappingSchema = z.object({
  device: code,
  /** The address of the device's point, as text. */
  point: reference,
  target: mappingTargetSchema,
});

const outboundCommon = z.object({
  code,
  name,
  centre: name,
  /** How the centre gets to us, or we to it. Empty: its protocol needs none. */
  link: z.union([code, z.literal('')]),
  /** From where the centre may connect, where it calls us. */
  allowFrom,
  /** The name in its certificate, where the link has TLS; empty: any. */
  peerName: plain('A name', 253).default(''),
  /** Whether the centre may operate anything here; new outbounds begin without. */
  controls: z.boolean().default(true),
  /** From where, among those that may connect. */
  controlsFrom: allowFrom,
  /** The device as which the same party gives us points: none of them goes back to it. Empty: it gives none. */
  partner: z.union([code, z.literal('')]).default(''),
  /** Further devices that are the same party: each is an association of its own with it. */
  alsoPartners: z.array(code).max(20, 'At most 20 devices are one party').default([]),
});
/** An outbound without its mappings. */
export const outboundObjectSchema = outboundCommon.and(outboundPart);
const outboundSchema = outboundCommon.extend({ mappings: z.array(mappingSchema).max(200_000) }).and(outboundPart);

export const configurationSchema = z.object({
  schema: z.literal('halvix.configuration'),
  version: z.literal(3),
  network: name,
  stations: z.array(stationSchema).max(10_000),
  links: z.array(linkSchema).max(10_000),
  radios: z.array(radioSchema).max(10_000).default([]),
  devices: z.array(deviceSchema).max(10_000),
  outbounds: z.array(outboundSchema).max(100),
});

export type Configuration = z.infer<typeof configurationSchema>;
export type StationConfig = z.infer<typeof stationSchema>;
export type LinkConfig = z.infer<typeof linkSchema>;
export type RadioConfig = z.infer<typeof radioSchema>;
export type DeviceConfig = z.infer<typeof deviceSchema>;
export type PointConfig = z.infer<typeof pointSchema>;
export type OutboundConfig = z.infer<typeof outboundSchema>;
export type MappingConfig = z.infer<typeof mappingSchema>;

export const EMPTY_CONFIGURATION: Configuration = {
  schema: 'halvix.configuration',
  version: 3,
  network: 'New network',
  stations: [],
  links: [],
  radios: [],
  devices: [],
  outbounds: [],
};
