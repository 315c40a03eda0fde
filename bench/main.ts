import { clock } from '@halvix/wire';
import { hostSetting, portSetting, readSettings } from '@halvix/core/settings';
import { z } from 'zod';
import { SimulatedCentre } from './dnp3/centre.ts';
import { OutstationStandIn, type NumberedPlant } from './dnp3/outstation.ts';
import { impairmentsSchema } from './impairments.ts';
import { CallingLink, ListeningLink, type BenchLink } from './link.ts';
import { FeederRelay } from './plants/feederrelay.ts';
import { LAMBROOK, PIKE_MOOR, SKARN_WEIR, TOLBECK_SIPHON } from './scenario/stations.ts';
import { GateStation, RepeaterHut, ValveLogger } from './plants/stations.ts';
import type { FramingName } from '@halvix/core/protocols/modbus';
import { EnergyMeter, FlowComputer, TransformerMonitor } from './plants/instruments.ts';
import { ServerStandIn, type MappedPlant } from './modbus/server.ts';
import { IEC_61850 } from './iec61850/centre.ts';
import { byTcp, ClientCentre } from './mms/centre.ts';
import { Neighbour } from './plants/neighbour.ts';
import { Region } from './plants/region.ts';
import { CALDMERE_DOMAIN, CALDMERE_TABLE, NORTHMARK_DOMAIN, OUR_DOMAIN, TABLE } from './scenario/tase2.ts';

import { tase2 } from './tase2/centre.ts';
import { PeerStandIn } from './tase2/peer.ts';
import { IedStandIn } from './iec61850/ied.ts';
import { BayIed, ParkController } from './plants/modelled.ts';
import { bayFile, parkFile } from './scenario/sclfiles.ts';
import type { StandIn } from './standin.ts';
import { METER_UNITS } from './scenario/modbus.ts';
import { serveControl } from './http.ts';
import { DEMO_PORTS } from './scenario/configuration.ts';

const optionalPort = z.coerce.number().int().min(0).max(65_535).default(0);
const settings = readSettings(
  z.object({
    HALVIX_BENCH_HOST: hostSetting,
    HALVIX_BENCH_PORT: portSetting(4602),
    HALVIX_BENCH_RELAY_PORT: portSetting(DEMO_PORTS.relay),
    HALVIX_BENCH_RELAY2_PORT: portSetting(DEMO_PORTS.relay2),
    /** Ports of further relays, for tests of many: B01 at address 201 and so on. */
    HALVIX_BENCH_MORE_RELAYS: z
      .string()
      .regex(/^(\d{1,5}(,\d{1,5})*)?$/, 'must be ports with commas between')
      .default(''),
    /** The radio channel with its stations and the logger, or the relays alone. */
    HALVIX_BENCH_STATIONS: z.enum(['all', 'relays']).default('all'),
    HALVIX_BENCH_RADIO_PORT: portSetting(DEMO_PORTS.radio),
    /** Where the logger calls. */
    HALVIX_BENCH_LOGGER_PORT: portSetting(DEMO_PORTS.logger),
    /** How often the logger wakes and how often it takes a sample, milliseconds. */
    HALVIX_BENCH_LOGGER_WAKES_MS: z.coerce.number().int().min(1000).default(120_000),
    HALVIX_BENCH_LOGGER_SAMPLES_MS: z.coerce.number().int().min(100).default(60_000),
    /** Events that a relay keeps of each class. */
    HALVIX_BENCH_RELAY_EVENTS: z.coerce.number().int().min(10).max(1_000_000).default(50_000),
    /** The Modbus servers; 0: without them. */
    HALVIX_BENCH_FLOW_PORT: optionalPort,
    HALVIX_BENCH_MONITOR_PORT: optionalPort,
    HALVIX_BENCH_METERS_PORT: optionalPort,
    /** Devices with models; 0: without them. */
    HALVIX_BENCH_BAY_PORT: optionalPort,
    HALVIX_BENCH_PARK_PORT: optionalPort,
    /** Our model, which a client looks at; 0: nobody does. */
    HALVIX_BENCH_MODEL_PORT: optionalPort,
    /** Northmark as a server, and our own agreement, which it asks for; 0: without them. */
    HALVIX_BENCH_NORTHMARK_PORT: optionalPort,
    HALVIX_BENCH_CALDMERE_PORT: optionalPort,
    HALVIX_BENCH_AGREEMENT_PORT: optionalPort,
    HALVIX_BENCH_QUILLSTONE_PORT: portSetting(DEMO_PORTS.quillstone),
    HALVIX_BENCH_AMBRY_PORT: portSetting(DEMO_PORTS.ambry),
  }),
  process.env,
);
if (!settings.ok) {
  for (const problem of settings.problem) process.stderr.write(`setting ${problem}\n`);
  process.exit(2);
}
const { HALVIX_BENCH_HOST: host, ...ports } = settings.value;

const now = clock.now();
const relay = (code: string, name: string, port: number, address: number): OutstationStandIn =>
  new OutstationStandIn(
    {
      ...{ code, name, station: code.split('-')[0], address, masterAddress: 1 },
      eventsPerClass: ports.HALVIX_BENCH_RELAY_EVENTS,
    },
    new ListeningLink(host, code, `${name}'s port`, port),
    new FeederRelay(now, Math.random),
  );
const f1 = relay('HLM-F1', 'F1 feeder relay', ports.HALVIX_BENCH_RELAY_PORT, 11);
/** Off until somebody brings it on line. */
const f2 = relay('HLM-F2', 'F2 feeder relay', ports.HALVIX_BENCH_RELAY2_PORT, 12);
const more = ports.HALVIX_BENCH_MORE_RELAYS.split(',')
  .filter(Boolean)
  .map((port, i) => relay(`B${String(i + 1).padStart(2, '0')}`, `Relay ${i + 1}`, Number(port), 201 + i));
/** The radio channel R1: one line, half duplex, three stations on it. */
const radio = new ListeningLink(host, 'R1', 'Radio channel R1', ports.HALVIX_BENCH_RADIO_PORT, true);
radio.impair(impairmentsSchema.parse({ bitRate: 9600, bitsPerOctet: 10, latencyMs: 15, jitterMs: 10 }));
const cellular = new CallingLink(host, 'LMB', 'Cellular, Lambrook', ports.HALVIX_BENCH_LOGGER_PORT);
const station = (
  code: string,
  name: string,
  address: number,
  link: BenchLink,
  plant: NumberedPlant,
): OutstationStandIn => {
  const sleeps = link === cellular ? { wakesEveryMs: ports.HALVIX_BENCH_LOGGER_WAKES_MS } : {};
  const outstation = link === cellular ? { unsolicited: true } : {};
  const settings = { code, name, station: code, address, masterAddress: 1, outstation, ...sleeps };
  return new OutstationStandIn(settings, link, plant);
};
const stations =
  ports.HALVIX_BENCH_STATIONS === 'relays'
    ? []
    : [
        station('SKA', 'Skarn Weir', 21, radio, new GateStation(SKARN_WEIR, now, Math.random, 2.4)),
        station('TOL', 'Tolbeck Siphon', 22, radio, new GateStation(TOLBECK_SIPHON, now, Math.random, 1.9)),
        station('PKM', 'Pike Moor', 23, radio, new RepeaterHut(PIKE_MOOR, now, Math.random)),
        station(
          'LMB',
          'Lambrook Valve House',
          31,
          cellular,
          new ValveLogger(LAMBROOK, now, Math.random, ports.HALVIX_BENCH_LOGGER_SAMPLES_MS),
        ),
      ];
/** Modbus servers that listen on ports of their own, and the meters that share a line. */
const servers: ServerStandIn[] = [];
const server = (
  code: string,
  name: string,
  unit: number,
  framing: FramingName,
  ...[link, plant]: [BenchLink, MappedPlant]
): void =>
  void servers.push(new ServerStandIn({ code, name, station: code.split('-')[0], unit, framing }, link, plant));
const {
  HALVIX_BENCH_FLOW_PORT: flowPort,
  HALVIX_BENCH_MONITOR_PORT: monitorPort,
  HALVIX_BENCH_METERS_PORT: metersPort,
} = ports;
if (flowPort > 0) {
  const link = new ListeningLink(host, 'FNK-FC', "The flow computer's port", flowPort);
  server('FNK-FC', 'Flow computer', 1, 'tcp', link, new FlowComputer(now, Math.random));
}
if (monitorPort > 0) {
  const link = new ListeningLink(host, 'HLM-TM', "The transformer monitor's port", monitorPort);
  server('HLM-TM', 'Transformer monitor', 3, 'tcp', link, new TransformerMonitor(now, Math.random));
}
if (metersPort > 0) {
  const line = new ListeningLink(host, 'ORL-LINE', 'Meter line, Orlane', metersPort, true);
  line.impair(impairmentsSchema.parse({ bitRate: 9600, bitsPerOctet: 11 }));
  for (const unit of METER_UNITS)
    server(
      `ORL-M${unit - 10}`,
      `Energy meter ${unit - 10}`,
      unit,
      'rtu',
      line,
      new EnergyMeter(unit, now, Math.random),
    );
}
const modelled: IedStandIn[] = [];
const { HALVIX_BENCH_BAY_PORT: bayPort, HALVIX_BENCH_PARK_PORT: parkPort, HALVIX_BENCH_MODEL_PORT: modelPort } = ports;
if (bayPort > 0) {
  const link = new ListeningLink(host, 'HLM-B1', "The bay controller's port", bayPort);
  const settings = { code: 'HLM-B1', name: 'Bay controller', station: 'HLM', device: 'HLMB1', file: bayFile(bayPort) };
  modelled.push(new IedStandIn(settings, link, new BayIed(now, Math.random)));
}
if (parkPort > 0) {
  const link = new ListeningLink(host, 'ORL-PC', "The plant controller's port", parkPort);
  const settings = {
    code: 'ORL-PC',
    name: 'Plant controller',
    station: 'ORL',
    device: 'ORLPC',
    file: parkFile(parkPort),
  };
  modelled.push(new IedStandIn(settings, link, new ParkController(now, Math.random)));
}
const {
  HALVIX_BENCH_NORTHMARK_PORT: northmarkPort,
  HALVIX_BENCH_CALDMERE_PORT: caldmerePort,
  HALVIX_BENCH_AGREEMENT_PORT: agreementPort,
} = ports;
const neighbours: PeerStandIn[] = [];
if (northmarkPort > 0) {
  const link = new ListeningLink(host, 'NMK', "Northmark's port", northmarkPort);
  const of = { code: 'NMK', name: 'Northmark', station: 'NMK', domain: NORTHMARK_DOMAIN, bilateralTable: TABLE };
  neighbours.push(new PeerStandIn(of, link, new Neighbour(now, Math.random)));
}
const centre = (code: string, name: string, port: number, ourAddress: number): SimulatedCentre =>
  new SimulatedCentre({ code, name, host, port, ourAddress, outstationAddress: 10 });
const quillstone = centre('QST', 'Quillstone', ports.HALVIX_BENCH_QUILLSTONE_PORT, 100);
const ambry = centre('AMB', 'Ambry', ports.HALVIX_BENCH_AMBRY_PORT, 101);
const model =
  modelPort > 0
    ? [
        new ClientCentre(
          { code: 'QSM', name: 'Quillstone, by model', port: modelPort },
          IEC_61850,
          byTcp(host, modelPort),
        ),
      ]
    : [];
const ours = tase2(OUR_DOMAIN);
const agreed =
  agreementPort > 0
    ? [new ClientCentre({ code: 'NMC', name: 'Northmark', port: agreementPort }, ours, byTcp(host, agreementPort))]
    : [];
/** Of the second centre both roles are in one association. */
if (caldmerePort > 0) {
  const link = new ListeningLink(host, 'CMR', "Caldmere's port", caldmerePort);
  const of = { code: 'CMR', name: 'Caldmere', station: 'CMR', domain: CALDMERE_DOMAIN, bilateralTable: CALDMERE_TABLE };
  const peer = new PeerStandIn(of, link, new Region(now, Math.random));
  neighbours.push(peer);
  agreed.push(new ClientCentre({ code: 'CMC', name: 'Caldmere', port: caldmerePort }, ours, peer.asGuest));
}

const devices: StandIn[] = [f1, f2, ...more, ...stations, ...servers, ...modelled, ...neighbours];
const control = serveControl(
  host,
  ports.HALVIX_BENCH_PORT,
  {
    devices: new Map(devices.map((one) => [one.code, one])),
    links: new Map([...new Set(devices.map(({ link }) => link))].map((link) => [link.code, link])),
    centres: new Map([quillstone, ambry, ...model, ...agreed].map((one) => [one.code, one])),
  },
  (error) => {
    process.stderr.write(`the bench cannot listen on ${host}:${ports.HALVIX_BENCH_PORT}: ${error.message}\n`);
    process.exit(1);
  },
);
for (const one of [f1, ...more, ...stations, ...servers, ...modelled, ...neighbours]) await one.power(true);
for (const one of [quillstone, ...model, ...agreed]) one.power(true);

for (const signal of ['SIGTERM', 'SIGINT'] as const)
  process.on(signal, () => {
    for (const one of [quillstone, ambry, ...model, ...agreed]) one.power(false);
    control.close();
    void Promise.all(devices.map((one) => one.power(false))).then(() => process.exit(0));
    setTimeout(() => process.exit(0), 1000);
  });
