import { configurationSchema } from '@halvix/core/config';
import { PlainMemory, Responder, type FramingName } from '@halvix/core/protocols/modbus';
import { databaseSetting, portSetting, readSettings } from '@halvix/core/settings';
import { applyConfiguration, migrateDatabase, openDatabase } from '@halvix/db';
import { clock, exactly, sendTogether } from '@halvix/wire';
import ModbusRTU from 'modbus-serial';
import { readFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { z } from 'zod';
import { impairmentsSchema } from '../../bench/impairments.ts';
import { ListeningLink } from '../../bench/link.ts';

/*
 * How the engine polls registers, over a real database:
 *
 * - line: eight meters at 9600 bit/s and 11 bits an octet, asked as often as the line allows. Elapsed time over the line
 *   time of all octets and of the silence of 3.5 characters that has to be before each request and each answer.
 * - rate: one server on loopback with blocks of 125 registers, asked as often as it goes, by the engine and then, while
 *   the engine rests, by a client of somebody else; the requests a second of the one over those of the other.
 * - many: 200 servers of 500 registers each on loopback, all of them polled each second: polls that came later than two
 *   periods after the one before, and what processor the engine needs.
 */
const settings = readSettings(
  z.object({
    HALVIX_DATABASE_URL: databaseSetting,
    HALVIX_MIGRATIONS: z.string(),
    HALVIX_ENGINE_PID: z.coerce.number().int(),
    HALVIX_MEASURE: z.enum(['line', 'rate', 'many']),
    HALVIX_LINE_PORT: portSetting(0),
  }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}
const { HALVIX_MEASURE: measure, HALVIX_LINE_PORT: port, HALVIX_ENGINE_PID: pid } = settings.value;

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
const report = (figure: string, value: number, unit: string, more: object = { better: 'lower' }): void =>
  void process.stdout.write(`${JSON.stringify({ figure, value: Number(value.toFixed(3)), unit, ...more })}\n`);

const BLOCKS = 40;
const BLOCK = 125;

function filled(registers: number): PlainMemory {
  const memory = new PlainMemory();
  for (let at = 0; at < registers; at++) memory.registers.holdingRegisters.set(at, at);
  return memory;
}

/** A server on a port of its own; `asked` is called with the first register of each request. */
function serve(host: string, at: number, memory: PlainMemory, asked: (address: number) => void): Promise<void> {
  const server = createServer({ noDelay: true }, (socket) => {
    socket.on('error', () => {});
    const responder = new Responder({
      framing: 'tcp',
      octetMs: 0,
      memoryOf: () => memory,
      send: (octets) => sendTogether(socket, octets),
      count: () => {},
    });
    socket.on('data', (octets) => {
      // Function, address: behind the header of seven octets.
      for (let from = 0; from + 12 <= octets.length; from += 12) {
        const first = octets.readUInt16BE(from + 8);
        asked(first);
        // One register in twenty is another one each time.
        for (let at = first; at < first + BLOCK; at += 20)
          memory.registers.holdingRegisters.set(at, ((memory.registers.holdingRegisters.get(at) ?? 0) + 1) & 0xffff);
      }
      responder.receive(octets, clock.now());
    });
  });
  return new Promise((resolve) => server.listen(at, host, resolve));
}

const point = (address: number, history: object = { mode: 'deadband' }): object => ({
  kind: 'analog',
  at: { protocol: 'modbus', table: 'holdingRegisters', address },
  name: `Register ${address}`,
  history,
});
const link = (code: string, host: string, at: number, framing: FramingName, more: object = {}): object => ({
  ...{ code, name: code, type: 'tcpClient', protocol: 'modbus', framing, host, port: at },
  ...more,
});
const device = (code: string, on: string, registers: number, own: object, history?: object): object => ({
  ...{ code, name: code, station: 'S', link: on, protocol: 'modbus', settings: own },
  points: Array.from({ length: registers }, (_, address) => point(address, history)),
});

async function apply(links: object[], devices: object[]): Promise<void> {
  if (!settings.ok) return;
  const database = openDatabase(settings.value.HALVIX_DATABASE_URL, { connections: 2, name: 'registers-bench' });
  await migrateDatabase(database, settings.value.HALVIX_MIGRATIONS);
  const shell = { schema: 'halvix.configuration', version: 3, network: 'registers', outbounds: [] };
  const configuration = configurationSchema.parse({
    ...shell,
    stations: [{ code: 'S', name: 'Station' }],
    links,
    devices,
  });
  await applyConfiguration(database, configuration, 'bench', measure);
}

/** Processor time of the engine so far, milliseconds (proc(5): utime and stime in ticks of 10 ms). */
function engineMs(): number {
  const stat = readFileSync(`/proc/${pid}/stat`, 'utf8');
  const fields = stat.slice(stat.lastIndexOf(')') + 2).split(' ');
  return (Number(fields[11]) + Number(fields[12])) * 10;
}

const METERS = 8;
const METER_REGISTERS = 20;
const OCTET_MS = (1000 * 11) / 9600;
const SILENCE = 3.5;

async function measureLine(): Promise<void> {
  const line = new ListeningLink('127.0.0.1', 'LINE', 'Eight meters', port, true);
  line.impair(impairmentsSchema.parse({ bitRate: 9600, bitsPerOctet: 11 }));
  let requests = 0;
  for (let unit = 1; unit <= METERS; unit++) {
    const memory = filled(METER_REGISTERS);
    const responder = new Responder({
      framing: 'rtu',
      octetMs: 0,
      memoryOf: (asked) => (asked === unit ? memory : null),
      // A meter keeps the silence too before it answers.
      send: (octets) => void exactly(clock.fine() + SILENCE * OCTET_MS, () => line.send(octets)),
      count: (what) => void (what === 'requests' && requests++),
    });
    void line.join({
      up: () => responder.reset(),
      down: () => responder.reset(),
      data: (octets) => responder.receive(octets, clock.now()),
    });
  }
  await apply(
    [link('LINE', '127.0.0.1', port, 'rtu', { line: { bitRate: 9600, parity: 'even' } })],
    Array.from({ length: METERS }, (_, n) =>
      device(`M${n + 1}`, 'LINE', METER_REGISTERS, { unitId: n + 1, period1Ms: 50 }),
    ),
  );
  await pause(12_000);
  const began = { at: clock.now(), requests, octets: line.report().counts.passed };
  await pause(30_000);
  const elapsed = clock.now() - began.at;
  const count = requests - began.requests;
  const computed = (line.report().counts.passed - began.octets + 2 * SILENCE * count) * OCTET_MS;
  report('line.modbus_cycle_ratio', elapsed / computed, 'ratio', { bound: 1.05, better: 'lower' });
  process.stderr.write(`line: eight meters, ${count} requests in ${elapsed} ms\n`);
}

async function measureRate(): Promise<void> {
  let asked = 0;
  await serve('127.0.0.1', port, filled(BLOCKS * BLOCK), () => void asked++);
  await apply(
    [link('ONE', '127.0.0.1', port, 'tcp')],
    // The other client keeps nothing; here each register is stored now and then.
    [
      device(
        'D',
        'ONE',
        BLOCKS * BLOCK,
        { unitId: 1, period1Ms: 1, outstanding: 16 },
        { mode: 'interval', everyMs: 10_000 },
      ),
    ],
  );
  await pause(6000);
  const counted = async (ms: number): Promise<number> => {
    const [from, at] = [asked, clock.now()];
    await pause(ms);
    return ((asked - from) * 1000) / (clock.now() - at);
  };
  const ours = await counted(10_000);
  // The engine goes on without anything to ask.
  await apply([link('ONE', '127.0.0.1', port, 'tcp')], [device('D', 'ONE', 0, { unitId: 1, period1Ms: 1 })]);
  await pause(2000);
  const client = new ModbusRTU();
  await client.connectTCP('127.0.0.1', { port });
  client.setID(1);
  let goesOn = true;
  const polling = (async () => {
    while (goesOn) for (let block = 0; block < BLOCKS; block++) await client.readHoldingRegisters(block * BLOCK, BLOCK);
  })();
  const theirs = await counted(10_000);
  goesOn = false;
  await polling;
  report('modbus.poll_rate_ratio', ours / theirs, 'ratio', { bound: 1, better: 'higher' });
  process.stderr.write(`rate: ${ours.toFixed(0)} requests a second, the other client ${theirs.toFixed(0)}\n`);
}

const SERVERS = 200;
const REGISTERS = 500;
const PERIOD_MS = 1000;

async function measureMany(): Promise<void> {
  const host = '127.12.0.1';
  let late = 0;
  let polls = 0;
  let measuring = false;
  const read = new Set<number>();
  for (let n = 0; n < SERVERS; n++) {
    const last = new Map<number, number>();
    await serve(host, 23_000 + n, filled(REGISTERS), (address) => {
      const now = clock.now();
      const before = last.get(address);
      last.set(address, now);
      read.add(n);
      if (!measuring || before === undefined) return;
      polls++;
      if (now - before > 2 * PERIOD_MS) late++;
    });
  }
  await apply(
    Array.from({ length: SERVERS }, (_, n) => link(`L${n}`, host, 23_000 + n, 'tcp')),
    Array.from({ length: SERVERS }, (_, n) =>
      device(`D${n}`, `L${n}`, REGISTERS, { unitId: 1, period1Ms: PERIOD_MS, responseTimeoutMs: 5000 }),
    ),
  );
  const limit = clock.now() + 60_000;
  while (read.size < SERVERS) {
    if (clock.now() > limit) throw new Error(`${SERVERS - read.size} servers were never read`);
    await pause(200);
  }
  await pause(5000);
  const [began, before] = [clock.now(), engineMs()];
  measuring = true;
  await pause(30_000);
  report('scale.modbus_late_polls', late, 'polls', { bound: 0, better: 'lower' });
  report('scale.modbus_cpu_percent', ((engineMs() - before) / (clock.now() - began)) * 100, '%');
  process.stderr.write(`many: ${polls} polls of ${SERVERS} servers in 30 s\n`);
}

const MEASURES = { line: measureLine, rate: measureRate, many: measureMany };
await MEASURES[measure]();
process.exit(0);
