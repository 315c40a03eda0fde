import { configurationSchema, LOOPBACK_ONLY, type Configuration } from '@halvix/core/config';
import { mappingTo } from '@halvix/core/mapping';
import { pointsOf } from '@halvix/core/protocols';
import { DEFAULT_VARIATIONS, USUAL_CLASS } from '@halvix/core/protocols/dnp3';
import { addressWords } from '@halvix/core/point';
import { FEEDER_RELAY, type NumberedPoint } from './feederrelay.ts';
import { ENERGY_METER, FLOW_COMPUTER, METER_UNITS, TRANSFORMER_MONITOR, type ModbusPoint } from './modbus.ts';
import { BAY_POINTS, PARK_POINTS, type ModelPoint } from './iec61850.ts';
import {
  CALDMERE_DOMAIN,
  CALDMERE_POINTS,
  CALDMERE_TABLE,
  NORTHMARK_DOMAIN,
  NORTHMARK_POINTS,
  OUR_DOMAIN,
  TABLE,
  type PeerPoint,
} from './tase2.ts';
import { LAMBROOK, PIKE_MOOR, SKARN_WEIR, TOLBECK_SIPHON } from './stations.ts';

export interface DemoPorts {
  relay: number;
  relay2: number;
  /** The radio channel and the logger's port; absent: the demo without them. */
  radio?: number;
  logger?: number;
  /** The Modbus servers; absent: the demo without them. */
  flow?: number;
  monitor?: number;
  meters?: number;
  /** Devices with models, and the port of our own; absent: the demo without them. */
  bay?: number;
  park?: number;
  model?: number;
  /** A neighbour's centre, and the port of our agreement with it; absent: the demo without them. */
  northmark?: number;
  caldmere?: number;
  agreement?: number;
  quillstone: number;
  ambry: number;
}

export const DEMO_PORTS = {
  relay: 20001,
  relay2: 20002,
  radio: 20003,
  logger: 20004,
  flow: 5021,
  monitor: 5023,
  meters: 5024,
  bay: 10201,
  park: 10202,
  model: 10102,
  northmark: 10301,
  caldmere: 10302,
  agreement: 10103,
  quillstone: 20100,
  ambry: 20101,
};

/** The relays and the centres alone. */
const RELAY_PORTS: DemoPorts = { relay: 20001, relay2: 20002, quillstone: 20100, ambry: 20101 };

const dnp3At = (index: number): never => ({ protocol: 'dnp3', index }) as never;

type Feedback = { point: string; expect: Record<string, number> };

/** What each operation of an output leads to, where a binary input shows it. */
const FEEDBACK: Partial<Record<number, Feedback>> = {
  0: { point: 'BI 0', expect: { trip: 0, close: 1, latchOn: 1, latchOff: 0 } },
  1: { point: 'BI 2', expect: { pulseOn: 0 } },
  2: { point: 'BI 11', expect: { latchOn: 1, latchOff: 0 } },
  3: { point: 'BI 18', expect: { latchOn: 1, latchOff: 0 } },
  6: { point: 'BI 10', expect: { latchOn: 1, latchOff: 0 } },
  7: { point: 'BI 25', expect: { latchOn: 1, latchOff: 0 } },
};

function pointOf({ kind, index, name, unit, gain, states, operations }: NumberedPoint, feedback?: Feedback): unknown {
  const control = {
    operations,
    onMs: 500,
    offMs: 250,
    feedback: feedback ?? null,
    // A gate takes its time.
    feedbackWithinMs: feedback?.point.startsWith('DBI') ? 70_000 : 10_000,
  };
  // The water gets there when it does; that the station took the wanted level shows at once.
  const setting = { low: 0.5, high: 4 };
  return {
    ...{ kind, name, unit, gain, offset: 0, states },
    at: { protocol: 'dnp3', index, ...(kind === 'setpoint' ? { sentAs: 'int16' } : {}) },
    control: kind === 'output' ? control : null,
    setting: kind === 'setpoint' ? setting : null,
  };
}

const relayFeedback = ({ kind, index }: NumberedPoint): Feedback | undefined => {
  return kind === 'output' ? FEEDBACK[index] : undefined;
};
const gateFeedback = ({ kind, index }: NumberedPoint): Feedback | undefined =>
  kind === 'output' ? { point: `DBI ${index}`, expect: { latchOn: 2, latchOff: 1 } } : undefined;

/** The stations on radio channel R1, and the logger that calls. */
function smallStations(radio: number, logger: number): { stations: unknown[]; links: unknown[]; devices: unknown[] } {
  const polls = { class1PeriodMs: 3000, class2PeriodMs: 3000, class3PeriodMs: 15_000, integrityPeriodMs: 600_000 };
  const onRadio = { ...polls, ourAddress: 1, responseTimeoutMs: 1500, clockCheckMs: 30_000 };
  const device = (
    code: string,
    name: string,
    description: string,
    link: string,
    settings: object,
    points: readonly NumberedPoint[],
    feedback: (point: NumberedPoint) => Feedback | undefined = () => undefined,
  ): unknown => ({
    code,
    name,
    description,
    station: code,
    link,
    protocol: 'dnp3',
    settings,
    points: points.map((point) => pointOf(point, feedback(point))),
  });
  const radioLine = { bitRate: 9600, keyUpMs: 20, keyDownMs: 10 };
  return {
    stations: [
      { code: 'SKA', name: 'Skarn Weir', description: 'Canal head gate' },
      { code: 'TOL', name: 'Tolbeck Siphon', description: 'Siphon and spillway' },
      { code: 'PKM', name: 'Pike Moor', description: 'Repeater hut' },
      { code: 'LMB', name: 'Lambrook Valve House', description: 'Pressure and flow, on batteries' },
    ],
    links: [
      { code: 'R1', name: 'Radio channel R1', type: 'tcpClient', host: '127.0.0.1', port: radio, line: radioLine },
      {
        code: 'LMB-CELL',
        name: 'Cellular',
        type: 'tcpServer',
        host: '127.0.0.1',
        allowFrom: [...LOOPBACK_ONLY],
        port: logger,
        calls: { lateAfterMs: 300_000 },
      },
    ],
    devices: [
      device('SKA', 'Skarn RTU', 'gate RTU', 'R1', { ...onRadio, theirAddress: 21 }, SKARN_WEIR, gateFeedback),
      device('TOL', 'Tolbeck RTU', 'gate RTU', 'R1', { ...onRadio, theirAddress: 22 }, TOLBECK_SIPHON, gateFeedback),
      device('PKM', 'Pike Moor RTU', 'hut RTU', 'R1', { ...onRadio, theirAddress: 23 }, PIKE_MOOR),
      device(
        'LMB',
        'Lambrook logger',
        'logger, calls in',
        'LMB-CELL',
        {
          ourAddress: 1,
          theirAddress: 31,
          responseTimeoutMs: 5000,
          disableUnsolicited: false,
          unsolicitedClasses: [1, 2, 3],
          class1PeriodMs: 0,
          class2PeriodMs: 0,
          class3PeriodMs: 0,
          integrityPeriodMs: 0,
          clockCheckMs: 60_000,
        },
        LAMBROOK,
      ),
    ],
  };
}

function modbusPoint({ kind, at, name, unit, gain, states, operations, setting }: ModbusPoint): unknown {
  return {
    ...{ kind, at, name, unit, gain, states, setting },
    control: kind === 'output' ? { operations, onMs: 1000 } : null,
    history: { mode: 'deadband' },
  };
}

/** Fennick's flow computer, Hollowmere's transformer monitor and Orlane's meters. */
function modbusStations({ flow, monitor, meters }: Required<Pick<DemoPorts, 'flow' | 'monitor' | 'meters'>>) {
  const link = (code: string, name: string, port: number, framing: string, more: object = {}): unknown => ({
    ...{ code, name, type: 'tcpClient', protocol: 'modbus', framing, host: '127.0.0.1', port },
    ...more,
  });
  const device = (
    code: string,
    name: string,
    description: string,
    on: string,
    unitId: number,
    points: readonly ModbusPoint[],
    settings: object = {},
  ): unknown => ({
    ...{ code, name, description, station: code.split('-')[0], link: on, protocol: 'modbus' },
    settings: { unitId, ...settings },
    points: points.map(modbusPoint),
  });
  return {
    stations: [
      { code: 'FNK', name: 'Fennick Green Gas', description: 'Injection point' },
      { code: 'ORL', name: 'Orlane Solar', description: 'Solar park' },
    ],
    links: [
      link('FNK-LAN', 'Station LAN', flow, 'tcp'),
      link('HLM-LAN-TM', 'Station LAN', monitor, 'tcp'),
      link('ORL-LINE', 'Meter line', meters, 'rtu', { line: { bitRate: 9600, parity: 'even' } }),
    ],
    devices: [
      device('FNK-FC', 'Flow computer', 'flow computer', 'FNK-LAN', 1, FLOW_COMPUTER),
      device('HLM-TM', 'Transformer monitor', 'oil, gas and fans', 'HLM-LAN-TM', 3, TRANSFORMER_MONITOR),
      ...METER_UNITS.map((unit) =>
        device(`ORL-M${unit - 10}`, `Energy meter ${unit - 10}`, 'string meter', 'ORL-LINE', unit, ENERGY_METER, {
          period1Ms: 2000,
          period2Ms: 30_000,
        }),
      ),
    ],
  };
}

function modelPoint({ kind, at, name, unit, gain, states, operations, setting, feedback }: ModelPoint): unknown {
  return {
    ...{ kind, at, name, unit, gain, states, setting },
    control: kind === 'output' ? { operations, onMs: 500, feedback } : null,
    history: { mode: kind === 'analog' || kind === 'counter' ? 'deadband' : 'every' },
  };
}

/** Hollowmere's bay controller and Orlane's plant controller. */
function modelStations(bay: number, park: number): { links: unknown[]; devices: unknown[] } {
  const link = (code: string, port: number): unknown => ({
    ...{ code, name: 'Station LAN', type: 'tcpClient', protocol: 'iec61850', host: '127.0.0.1', port },
  });
  const device = (code: string, name: string, on: string, points: readonly ModelPoint[]): unknown => ({
    ...{ code, name, description: name.toLowerCase(), station: code.split('-')[0], link: on, protocol: 'iec61850' },
    ...{ settings: {}, points: points.map(modelPoint) },
  });
  return {
    links: [link('HLM-LAN-B1', bay), link('ORL-LAN-PC', park)],
    devices: [
      device('HLM-B1', 'Bay controller', 'HLM-LAN-B1', BAY_POINTS),
      device('ORL-PC', 'Plant controller', 'ORL-LAN-PC', PARK_POINTS),
    ],
  };
}

/** What Quillstone has of us as a model: the relay, and the flow computer at Fennick. */
function modelMappings(): unknown[] {
  const numbers = new Map<string, number>();
  const next = (series: string): number => {
    const number = numbers.get(series) ?? 0;
    numbers.set(series, number + 1);
    return number;
  };
  const relay = FEEDER_RELAY.map(({ kind, index }) =>
    mappingTo({ device: 'HLM-F1', kind, at: dnp3At(index) }, 'iec61850', kind, index, 'engineering', { device: 'HLM' }),
  );
  const flow = FLOW_COMPUTER.map(({ kind, at }) =>
    mappingTo({ device: 'FNK-FC', kind, at }, 'iec61850', kind, next(kind), 'engineering', { device: 'FNK' }),
  );
  return [...relay, ...flow];
}

/** Northmark as a device: what its agreement lets us see, and operate. */
interface Neighbour {
  code: string;
  name: string;
  what: string;
  domain: string;
  table: string;
  points: readonly PeerPoint[];
}
const NORTHMARK: Neighbour = {
  ...{ code: 'NMK', name: 'Northmark', what: 'control centre of the neighbour' },
  ...{ domain: NORTHMARK_DOMAIN, table: TABLE, points: NORTHMARK_POINTS },
};
const CALDMERE: Neighbour = {
  ...{ code: 'CMR', name: 'Caldmere', what: 'control centre of the region' },
  ...{ domain: CALDMERE_DOMAIN, table: CALDMERE_TABLE, points: CALDMERE_POINTS },
};

/** A centre with which we have an agreement, as what it gives us. */
function neighbour(
  { code, name, what, domain, table, points: own }: Neighbour,
  port: number,
): { stations: unknown[]; links: unknown[]; devices: unknown[] } {
  const points = own.map(({ kind, at, name, unit, states, operations, setting, feedback }) => ({
    ...{ kind, at: { protocol: 'tase2', domain, name: at.name }, name, unit },
    ...(states && kind !== 'output' ? { states } : {}),
    ...(kind === 'output'
      ? { states, control: { operations, onMs: 100, offMs: 0, ...(feedback ? { feedback } : {}) } }
      : {}),
    ...(setting ? { setting } : {}),
  }));
  return {
    stations: [{ code, name, description: what }],
    links: [
      {
        ...{ code: `${code}-WAN`, name: `Line to ${name}`, type: 'tcpClient', protocol: 'tase2' },
        ...{ host: '127.0.0.1', port },
      },
    ],
    devices: [
      {
        ...{ code, name, description: 'by agreement', station: code, link: `${code}-WAN` },
        ...{ protocol: 'tase2', settings: { domain, bilateralTable: table }, points },
      },
    ],
  };
}

/** What Caldmere has of us: what is exchanged at the tie, and the feeder's load. */
const REGIONAL = FEEDER_RELAY.filter(({ kind, index }) => kind === 'analog' && index < 3);
const regionalMappings = (): unknown[] => [
  ...REGIONAL.map(({ kind, index }) =>
    mappingTo({ device: 'HLM-F1', kind, at: dnp3At(index) }, 'tase2', kind, index, 'engineering', { prefix: 'HLM_F1' }),
  ),
  {
    ...{ device: 'NMK', point: `${NORTHMARK_DOMAIN}/TIE_MW` },
    target: {
      ...{ kind: 'analog', value: 'engineering' },
      at: { protocol: 'tase2', name: 'NMK_TIE_MW', type: 'RealQTimeTag' },
    },
  },
];

/** What Northmark has of us: the feeder at the tie. */
const AGREED = FEEDER_RELAY.filter(
  ({ kind, index }) =>
    (kind === 'binary' && index < 6) || (kind === 'analog' && index < 8) || (kind === 'output' && index === 0),
);
const agreedMappings = (): unknown[] =>
  AGREED.map(({ kind, index }) =>
    mappingTo({ device: 'HLM-F1', kind, at: dnp3At(index) }, 'tase2', kind, index, 'engineering', { prefix: 'HLM_F1' }),
  );

/**
 * The demo's configuration: relay HLM-F1, mapped whole and unchanged to Quillstone and to Ambry; with ports for them,
 * the stations on the radio channel and the logger, and what speaks Modbus.
 */
export function demoConfiguration(ports: DemoPorts = RELAY_PORTS): Configuration {
  const mappings = FEEDER_RELAY.map(({ kind, index }) => ({
    device: 'HLM-F1',
    point: addressWords(kind, index),
    target: {
      kind,
      at: {
        protocol: 'dnp3',
        index,
        eventClass: USUAL_CLASS[kind],
        staticVariation: DEFAULT_VARIATIONS[kind].static,
        eventVariation: DEFAULT_VARIATIONS[kind].event,
      },
    },
  }));
  const port = (code: string, centre: string, number: number, protocol = 'dnp3'): unknown => ({
    ...{ code, name: `To ${centre}`, type: 'tcpServer', protocol, host: '127.0.0.1', port: number },
  });
  const outbound = (code: string, name: string, centre: string, theirAddress: number): unknown => ({
    code,
    name,
    centre,
    protocol: 'dnp3',
    link: code,
    allowFrom: [...LOOPBACK_ONLY],
    settings: { ourAddress: 10, theirAddress },
    mappings,
  });
  const byModel = {
    ...{ code: 'QSM', name: 'model', centre: 'Quillstone, by model', protocol: 'iec61850', link: 'QSM' },
    ...{ allowFrom: [...LOOPBACK_ONLY], settings: {}, mappings: modelMappings() },
  };
  const none = { stations: [], links: [], devices: [] };
  const small = ports.radio && ports.logger ? smallStations(ports.radio, ports.logger) : none;
  const { flow, monitor, meters } = ports;
  const registers = flow && monitor && meters ? modbusStations({ flow, monitor, meters }) : none;
  const { bay, park, model } = ports;
  const models = bay && park && registers.devices.length > 0 ? modelStations(bay, park) : none;
  const beyond = ports.northmark ? neighbour(NORTHMARK, ports.northmark) : none;
  const region = ports.caldmere && ports.northmark ? neighbour(CALDMERE, ports.caldmere) : none;
  const byAgreement = {
    ...{ code: 'NMC', name: 'neighbour', centre: 'Northmark', protocol: 'tase2', link: 'NMC' },
    // It gives us its own, in turn.
    partner: ports.northmark ? 'NMK' : '',
    ...{ allowFrom: [...LOOPBACK_ONLY], settings: { domain: OUR_DOMAIN, bilateralTable: TABLE } },
    mappings: agreedMappings(),
  };
  // Both roles of this one are in one association, which we make.
  const regional = {
    ...{ code: 'CMC', name: 'region', centre: 'Caldmere', protocol: 'tase2', link: 'CMR-WAN', partner: 'CMR' },
    ...{ settings: { domain: OUR_DOMAIN, bilateralTable: CALDMERE_TABLE }, mappings: regionalMappings() },
  };
  const centres = [
    { code: 'QST', centre: 'Quillstone' },
    { code: 'AMB', centre: 'Ambry' },
  ];
  const watched = [
    { code: 'HLM-F1', name: 'F1 feeder relay' },
    ...small.devices,
    ...registers.devices,
    ...models.devices,
    ...[...beyond.devices, ...region.devices],
  ] as {
    code: string;
    name: string;
  }[];
  // Where there is more than the relay: who answers, as points.
  const supervision = {
    ...{ code: 'VBU', name: 'Supervision', description: 'who answers', station: 'HLM', link: '' },
    ...{ protocol: 'supervision', settings: {} },
    points: (pointsOf('supervision').obtainable?.({ devices: watched, outbounds: centres }) ?? []).map((point) => ({
      ...point,
      normal: 0,
    })),
  };
  return configurationSchema.parse({
    schema: 'halvix.configuration',
    version: 3,
    network: 'Varrow Basin Utilities',
    stations: [
      { code: 'HLM', name: 'Hollowmere', description: '33/11 kV substation' },
      ...small.stations,
      ...registers.stations,
      ...beyond.stations,
      ...region.stations,
    ],
    links: [
      { code: 'HLM-LAN-F1', name: 'Station LAN', type: 'tcpClient', host: '127.0.0.1', port: ports.relay },
      ...small.links,
      ...registers.links,
      ...models.links,
      ...beyond.links,
      ...region.links,
      ...(ports.agreement ? [port('NMC', 'Northmark', ports.agreement, 'tase2')] : []),
      ...(model ? [port('QSM', 'Quillstone, by model', model, 'iec61850')] : []),
      port('QST', 'Quillstone', ports.quillstone),
      port('AMB', 'Ambry', ports.ambry),
    ],
    devices: [
      {
        code: 'HLM-F1',
        name: 'F1 feeder relay',
        description: 'feeder relay',
        station: 'HLM',
        link: 'HLM-LAN-F1',
        protocol: 'dnp3',
        settings: { ourAddress: 1, theirAddress: 11 },
        points: FEEDER_RELAY.map((point) => pointOf(point, relayFeedback(point))),
      },
      ...small.devices,
      ...registers.devices,
      ...models.devices,
      ...beyond.devices,
      ...region.devices,
      ...(registers.devices.length > 0 ? [supervision] : []),
    ],
    outbounds: [
      outbound('QST', 'centre', 'Quillstone', 100),
      outbound('AMB', 'standby', 'Ambry', 101),
      ...(model ? [byModel] : []),
      ...(ports.agreement ? [byAgreement] : []),
      ...(region.devices.length > 0 ? [regional] : []),
    ],
  });
}
