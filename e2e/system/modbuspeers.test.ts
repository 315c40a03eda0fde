import { modbusAt, type ModbusAt, type Table } from '@halvix/core/protocols/modbus';
import { configurationSchema, type MappingConfig } from '@halvix/core/config';
import { mappingTo } from '@halvix/core/mapping';
import type { PointKind } from '@halvix/core/point';
import { dnp3At } from '@halvix/core/protocols/dnp3';
import { applyConfiguration, openDatabase } from '@halvix/db';
import jsmodbus from 'jsmodbus';
import ModbusRTU from 'modbus-serial';
import { execFile, spawn, type ChildProcess } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { existsSync, mkdtempSync } from 'node:fs';
import { connect, createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { demoConfiguration } from '../../bench/scenario/configuration.ts';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { Rig } from '../rig/rig.ts';

/*
 * Modbus against implementations of other people: our client against servers of pymodbus (Debian) and jsmodbus (npm),
 * over TCP and over serial lines with RTU and ASCII; our server against clients of modbus-serial (npm) and mbpoll, which is libmodbus
 * (Debian), over TCP, RTU over TCP, and serial lines with RTU and ASCII. A dissector reads along.
 */
let rig: Rig;
const run = promisify(execFile);
const started: ChildProcess[] = [];
const closers: (() => void)[] = [];
const folder = mkdtempSync(join(tmpdir(), 'halvix-peers-'));
let [python, python2, other, third, rtu]: number[] = [];
const UNIT = 7;
const OURS = 5;
/** Of a second one on the same line. */
const BESIDE = 6;
/** What the servers of the others hold; see modbus_server.py. */
const LISTED: [kind: PointKind, table: Table, address: number, more?: Partial<ModbusAt>][] = [
  ['output', 'coils', 0],
  ['output', 'coils', 3],
  ['binary', 'discreteInputs', 4],
  ['analog', 'inputRegisters', 10],
  ['analog', 'inputRegisters', 20, { type: 'float32' }],
  ['counter', 'inputRegisters', 22, { type: 'uint64' }],
  ['setpoint', 'holdingRegisters', 30],
  ['setpoint', 'holdingRegisters', 40, { type: 'int32', order: 'CDAB' }],
  ['output', 'holdingRegisters', 50, { bit: 2 }],
  ['text', 'holdingRegisters', 60, { type: 'text', registers: 6 }],
];
const LABEL = modbusAt('holdingRegisters', 60, { type: 'text', registers: 6 });
const points = (): object[] =>
  LISTED.map(([kind, table, address, more], n) => ({
    ...{ kind, name: `point ${n}`, at: modbusAt(table, address, more) },
    control: kind === 'output' ? { operations: ['latchOn', 'latchOff'] } : null,
    setting: kind === 'setpoint' || kind === 'text' ? {} : null,
    history: { mode: 'deadband' },
  }));

async function spawned(command: string, args: string[]): Promise<ChildProcess> {
  const child = spawn(command, args, { stdio: 'ignore' });
  started.push(child);
  await new Promise((resolve, reject) => child.once('spawn', resolve).once('error', reject));
  return child;
}

/** The table of registers of jsmodbus: the same as the Python one has. */
function otherServer(port: number): void {
  const registers = Buffer.alloc(400);
  for (let at = 0; at < 200; at++) registers.writeUInt16BE(at, at * 2);
  registers.writeFloatBE(1.5, 40);
  registers.writeBigUInt64BE(0xffff_ffff_ffff_fff0n, 44);
  const bits = (first: number): Buffer => Buffer.alloc(25, first === 0 ? 0xaa : 0x55);
  const listener = createServer((socket) => socket.on('error', () => {}));
  new jsmodbus.server.TCP(listener, {
    ...{ coils: bits(0), discrete: bits(1) },
    ...{ holding: Buffer.from(registers), input: Buffer.from(registers) },
  });
  listener.listen(port, '127.0.0.1');
  closers.push(() => listener.close());
}

let capture: ChildProcess;
const captured = join(folder, 'run.pcapng');

beforeAll(async () => {
  rig = await (await Rig.make('modbuspeers', inject('postgres'), { modbus: true })).start();
  [python, python2, other, third, rtu] = await freePorts(5);
  const script = new URL('../rig/modbus_server.py', import.meta.url).pathname;
  const pair = async (name: string): Promise<[ours: string, theirs: string]> => {
    const [ours, theirs] = [join(folder, name), join(folder, `${name}-theirs`)];
    await spawned('socat', [`pty,raw,echo=0,link=${ours}`, `pty,raw,echo=0,link=${theirs}`]);
    await rig.until('the terminals are there', async () => existsSync(ours) && existsSync(theirs));
    return [ours, theirs];
  };
  const [ours, theirs] = await pair('device');
  const [oursToo, theirsToo] = await pair('device-ascii');
  const [ourRtu, ourAscii] = [(await pair('rtu'))[0], (await pair('ascii'))[0]];
  await spawned('/usr/bin/python3', [script, 'tcp', String(python)]);
  await spawned('/usr/bin/python3', [script, 'tcp', String(python2)]);
  await spawned('/usr/bin/python3', [script, 'serial', theirs]);
  await spawned('/usr/bin/python3', [script, 'ascii', theirsToo]);
  otherServer(other);
  const sudo = process.getuid?.() === 0 ? [] : ['sudo'];
  const filter = [python, python2, other, third].map((port) => `tcp port ${port}`).join(' or ');
  const [command, ...args] = [...sudo, 'tshark', '-i', 'lo', '-f', filter, '-w', captured, '-q'];
  capture = spawn(command, args, { stdio: ['ignore', 'ignore', 'pipe'] });
  let said = '';
  capture.stderr?.on('data', (text: Buffer) => (said += text.toString()));
  await rig.until('the capture has begun', async () => said.includes('Capturing on'));

  const demo = demoConfiguration({ ...rig.ports });
  const link = (code: string, more: object): object => ({
    ...{ code, name: code, type: 'tcpClient', protocol: 'modbus', framing: 'tcp', host: '127.0.0.1' },
    ...more,
  });
  const device = (code: string, settings: object = {}): object => ({
    ...{ code, name: code, station: 'FNK', link: code, protocol: 'modbus', points: points() },
    settings: { unitId: UNIT, period1Ms: 500, ...settings },
  });
  const source = (device: string, kind: PointKind, at: Parameters<typeof mappingTo>[0]['at']) => ({ device, kind, at });
  const flow = (kind: PointKind, table: Table, address: number, more: Partial<ModbusAt> = {}) =>
    source('FNK-FC', kind, modbusAt(table, address, more));
  const thirdParty = (code: string, on: string, unitId: number, mappings: object[]): object => ({
    ...{ code, name: 'third party', centre: `Third party ${code}`, protocol: 'modbus', link: on },
    ...{ settings: { unitId }, mappings },
  });
  /** A text that the third party may write. */
  const written = (mapping: MappingConfig): object => ({
    ...mapping,
    target: { ...mapping.target, at: { ...mapping.target.at, table: 'holdingRegisters', registers: 6 } },
  });
  const few = [
    mappingTo(flow('analog', 'inputRegisters', 0), 'modbus', 'analog', 0, 'engineering'),
    mappingTo(flow('setpoint', 'holdingRegisters', 100), 'modbus', 'setpoint', 0, 'engineering'),
    mappingTo(flow('output', 'coils', 0), 'modbus', 'output', 0, 'raw'),
  ];
  const configuration = configurationSchema.parse({
    ...demo,
    links: [
      ...demo.links,
      link('PYT', { port: python }),
      link('PYM', { port: python2 }),
      link('JSM', { port: other }),
      link('TPY', { type: 'tcpServer', port: third }),
      link('TPR', { type: 'tcpServer', port: rtu, framing: 'rtu' }),
      link('TPS', { type: 'serial', serialPort: ourRtu, framing: 'rtu', line: { bitRate: 9600 } }),
      link('TPA', { type: 'serial', serialPort: ourAscii, framing: 'ascii', line: { bitRate: 9600 } }),
      link('PYA', { type: 'serial', serialPort: oursToo, framing: 'ascii', line: { bitRate: 9600 } }),
      link('PYS', { type: 'serial', serialPort: ours, framing: 'rtu', line: { bitRate: 9600 } }),
    ],
    devices: [
      ...demo.devices,
      device('PYT', { maskWrites: true }),
      device('PYM', { writes: 'readWrite', outstanding: 3 }),
      device('PYS', { writes: 'multiple' }),
      device('PYA'),
      device('JSM', { writes: 'multiple' }),
    ],
    outbounds: [
      ...demo.outbounds,
      ...['TPR', 'TPS', 'TPA'].map((code) => thirdParty(code, code, OURS, few)),
      thirdParty('TPB', 'TPS', BESIDE, few),
      {
        ...thirdParty('TPY', 'TPY', OURS, []),
        mappings: [
          mappingTo(flow('analog', 'inputRegisters', 0), 'modbus', 'analog', 0, 'engineering'),
          mappingTo(flow('counter', 'inputRegisters', 10), 'modbus', 'counter', 2, 'raw'),
          mappingTo(flow('text', 'inputRegisters', 40), 'modbus', 'text', 10, 'raw'),
          mappingTo(flow('setpoint', 'holdingRegisters', 100), 'modbus', 'setpoint', 0, 'engineering'),
          mappingTo(flow('output', 'coils', 0), 'modbus', 'output', 0, 'raw'),
          mappingTo(flow('binary', 'discreteInputs', 0), 'modbus', 'binary', 0, 'raw'),
          mappingTo(source('HLM-F1', 'binary', dnp3At(0)), 'modbus', 'binary', 1, 'raw'),
          mappingTo(source('HLM-F1', 'output', dnp3At(0)), 'modbus', 'output', 1, 'raw'),
          mappingTo(source('HLM-F1', 'analog', dnp3At(7)), 'modbus', 'analog', 4, 'engineering'),
          written(mappingTo(source('PYT', 'text', LABEL), 'modbus', 'text', 40, 'raw')),
        ],
      },
    ],
  });
  const database = openDatabase(rig.databaseUrl, { connections: 1, name: 'test' });
  await applyConfiguration(database, configuration, 'test', 'peers of other people');
  await database.$client.end();
}, 90_000);

afterAll(async () => {
  capture.kill('SIGINT');
  for (const child of started) child.kill('SIGKILL');
  for (const close of closers) close();
  await rig.stop();
});

const latest = async (device: string, address: string): Promise<Record<string, unknown> | undefined> => {
  const [row] = await rig.sql`
    select raw, value, text, quality from latest join point_identity on id = point_id
    where device = ${device} and address = ${address}`;
  return row;
};
async function order(
  device: string,
  address: string,
  operation: string,
  counts: number | null,
  text: string | null = null,
) {
  const [{ id: point }] = await rig.sql`
    select id from point_identity where device = ${device} and address = ${address}`;
  const id = randomUUID();
  await rig.sql`
    insert into command (id, point_id, device, address, operation, counts, text, mode, on_ms, off_ms, count, requested_by, state,
      requested, expires)
    values (${id}, ${point}, ${device}, ${address}, ${operation}, ${counts}, ${text}, 'direct', 0, 0, 1, 'test', 'requested',
      ${new Date()}, ${new Date(Date.now() + 10_000)})`;
  await rig.sql.notify('halvix_command', id);
  const row = async (): Promise<Record<string, unknown>> => (await rig.sql`select * from command where id = ${id}`)[0];
  await rig.until('the command has ended', async () => (await row()).ended !== null, 20_000);
  return row();
}

describe.each(['PYT', 'PYM', 'PYS', 'PYA', 'JSM'])('our client, %s', (device) => {
  test('reads what the server has', async () => {
    await rig.until(
      'all is good',
      async () => {
        const [{ count }] = await rig.sql`
          select count(*)::int as count from latest join point_identity on id = point_id
          where device = ${device} and quality = 0`;
        return count === LISTED.length;
      },
      30_000,
    );
    expect(await latest(device, 'CO 0')).toMatchObject({ raw: 0 });
    expect(await latest(device, 'CO 3')).toMatchObject({ raw: 1 });
    expect(await latest(device, 'DI 4')).toMatchObject({ raw: 1 });
    expect(await latest(device, 'IR 10')).toMatchObject({ raw: 10 });
    expect(await latest(device, 'IR 20')).toMatchObject({ raw: 1.5 });
    expect(await latest(device, 'IR 22')).toMatchObject({ text: '18446744073709551600' });
    expect(await latest(device, 'HR 40')).toMatchObject({ raw: 41 * 0x1_0000 + 40 });
  });

  test('writes coils, registers, numbers of two registers and single bits', async () => {
    expect(await order(device, 'CO 0', 'latchOn', null)).toMatchObject({ state: 'confirmed' });
    expect(await order(device, 'HR 30', 'set', 4711)).toMatchObject({ state: 'confirmed' });
    expect(await order(device, 'HR 40', 'set', -70_000)).toMatchObject({ state: 'confirmed' });
    // 50 is 110010 in binary: its bit 2 is off.
    expect(await order(device, 'HR 50.2', 'latchOn', null)).toMatchObject({ state: 'confirmed' });
    // Each is shown once it has been read back.
    for (const [point, raw] of [
      ['HR 40', -70_000],
      ['HR 30', 4711],
      ['HR 50.2', 1],
    ] as const)
      await rig.until(`${point} is shown`, async () => (await latest(device, point))?.raw === raw);
  });

  test('writes a text, and what is read back is the feedback', async () => {
    const words = `PUMP ${device}`;
    expect(await order(device, 'HR 60', 'write', null, words)).toMatchObject({ state: 'confirmed' });
    await rig.until('it is shown', async () => (await latest(device, 'HR 60'))?.text === words);
  });
});

test('a server says what it is, and sends a request back as it is', async () => {
  for (const what of ['identify', 'echo']) {
    const request = { type: 'order', device: 'PYT', order: { what }, by: 'test' };
    await rig.sql`select pg_notify('halvix_request', ${JSON.stringify(request)})`;
  }
  await rig.until('both are written down', async () => {
    const rows = await rig.sql`select words from journal where subject = 'PYT' and words like '%asked by test%'`;
    const words = rows.map((row) => String(row.words)).join('; ');
    return words.includes('vendor Somebody else') && words.includes('echo a request, asked by test: done');
  });
});

describe('our server', () => {
  const withClient = async <Result>(use: (client: ModbusRTU) => Promise<Result>): Promise<Result> => {
    const client = new ModbusRTU();
    // A connection that is reset is no error of the test: what is asked over it fails by itself.
    client.on('error', () => {});
    await client.connectTCP('127.0.0.1', { port: third });
    client.setID(OURS);
    client.setTimeout(9000);
    try {
      return await use(client);
    } finally {
      client.close(() => {});
    }
  };

  test('is read by modbus-serial, and the values are those of the devices', async () => {
    await rig.until('it listens', async () => (await rig.hop('outbound', 'TPY'))?.state === 'listening');
    await withClient(async (client) => {
      const float = (registers: { buffer: Buffer }): number => registers.buffer.readFloatBE(0);
      const flow = float(await client.readInputRegisters(0, 2));
      expect(Math.abs(flow - Number((await latest('FNK-FC', 'IR 0'))?.value))).toBeLessThan(20);
      expect(float(await client.readInputRegisters(4, 2))).toBeCloseTo(
        Number((await latest('HLM-F1', 'AI 7'))?.value),
        0,
      );
      expect((await client.readInputRegisters(2, 2)).buffer.readUInt32BE(0)).toBeGreaterThan(81_000_000);
      expect((await client.readInputRegisters(10, 16)).buffer.toString('latin1').replaceAll('\0', '')).toBe(
        'FC-204417',
      );
      expect(float(await client.readHoldingRegisters(0, 2))).toBeCloseTo(320, 3);
      expect((await client.readCoils(0, 2)).data.slice(0, 2)).toEqual([true, true]);
      expect((await client.readDiscreteInputs(0, 2)).data.slice(0, 2)).toEqual([true, true]);
    });
  });

  test('a coil and a number are written through to the device, by every function', async () => {
    await withClient(async (client) => {
      await client.writeCoil(0, false);
      await rig.until('the valve is shut', async () => (await latest('FNK-FC', 'DI 1'))?.raw === 1);
      await client.writeCoils(0, [true]);
      await rig.until('it is open again', async () => (await latest('FNK-FC', 'DI 0'))?.raw === 1);
      const wanted = Buffer.alloc(4);
      wanted.writeFloatBE(150);
      await client.writeRegisters(0, wanted);
      await rig.until('the device has it', async () => (await latest('FNK-FC', 'HR 100'))?.raw === 1500);
      await rig.until(
        'it reads so',
        async () => (await client.readHoldingRegisters(0, 2)).buffer.readFloatBE(0) === 150,
      );
    });
  });

  test('of writes that come one behind the other the device keeps the last', async () => {
    await rig.until('it listens', async () => (await rig.hop('outbound', 'TPY'))?.state === 'listening');
    const socket = connect(third, '127.0.0.1');
    socket.on('error', () => {});
    let came = Buffer.alloc(0);
    socket.on('data', (octets) => (came = Buffer.concat([came, octets])));
    const write = (transaction: number, value: number): Uint8Array => {
      const float = Buffer.alloc(4);
      float.writeFloatBE(value);
      return Uint8Array.of(...[0, transaction, 0, 0, 0, 11, OURS, 16, 0, 0, 0, 2, 4], ...float);
    };
    const values = Array.from({ length: 8 }, (_, n) => 100 + n);
    socket.write(Buffer.concat(values.map((value, n) => write(n, value))));
    await rig.until('all are answered', async () => came.length === 8 * 12);
    expect(values.map((_, n) => [came[n * 12 + 1], came[n * 12 + 7]])).toEqual(values.map((_, n) => [n, 16]));
    await rig.until('the device has the last', async () => (await latest('FNK-FC', 'HR 100'))?.raw === 1070);
    socket.destroy();
  });

  test('a text is written through to the device', async () => {
    await withClient(async (client) => {
      const text = async (): Promise<string> =>
        (await client.readHoldingRegisters(40, 6)).buffer.toString('latin1').replaceAll('\0', '');
      await client.writeRegisters(40, Buffer.from('SLUICE 9'.padEnd(12, '\0'), 'latin1'));
      await rig.until('the device has it', async () => (await latest('PYT', 'HR 60'))?.text === 'SLUICE 9');
      await rig.until('it reads so', async () => (await text()) === 'SLUICE 9');
    });
  });

  test("a relay's breaker behind DNP3 is a coil", async () => {
    await withClient(async (client) => {
      await client.writeCoil(1, false);
      await rig.until('it is open', async () => !(await client.readDiscreteInputs(1, 1)).data[0]);
      await client.writeCoil(1, true);
      await rig.until('it is closed', async () => (await client.readDiscreteInputs(1, 1)).data[0]);
    });
  });

  test('what cannot be is answered with its exception', async () => {
    const exceptionOf = (asked: Promise<unknown>): Promise<number | undefined> =>
      asked.then(
        () => undefined,
        (error: { modbusCode?: number }) => error.modbusCode,
      );
    await withClient(async (client) => {
      expect(await exceptionOf(client.readInputRegisters(500, 2))).toBe(2);
      expect(await exceptionOf(client.writeCoil(77, true))).toBe(2);
      expect(await exceptionOf(client.writeRegister(0, 1))).toBe(2);
      const much = Buffer.alloc(4);
      much.writeFloatBE(9999);
      expect(await exceptionOf(client.writeRegisters(0, much))).toBe(3);
      await rig.bench('PUT', '/devices/FNK-FC/points/binary/2', { value: 0 });
      // The device's own.
      expect(await exceptionOf(client.writeCoil(0, false))).toBe(4);
      await rig.bench('DELETE', '/devices/FNK-FC/points/binary/2');
    });
  });

  test('a first request in pieces, and several at once, are answered', async () => {
    const socket = connect(third, '127.0.0.1');
    socket.on('error', () => {});
    const came: Buffer[] = [];
    socket.on('data', (octets) => came.push(octets));
    const request = (transaction: number): number[] => [0, transaction, 0, 0, 0, 6, OURS, 2, 0, 0, 0, 1];
    for (const octet of request(1)) {
      socket.write(Uint8Array.of(octet));
      await new Promise((resolve) => setTimeout(resolve, 10));
    }
    await rig.until('it is answered', async () => Buffer.concat(came).length === 10);
    socket.write(Uint8Array.from([2, 3, 4, 5].flatMap(request)));
    await rig.until('all are', async () => Buffer.concat(came).length === 50);
    expect(Buffer.concat(came).filter((_, at) => at % 10 === 1)).toEqual(Buffer.of(1, 2, 3, 4, 5));
    socket.destroy();
  });

  test('is read and written by mbpoll too, while others are connected', async () => {
    await withClient(async (client) => {
      const poll = async (...args: string[]): Promise<string> => {
        const all = ['-1', '-0', '-a', String(OURS), '-p', String(third), ...args];
        return (await run('mbpoll', all)).stdout;
      };
      expect(await poll('-t', '3:float', '-B', '-r', '0', '-c', '1', '127.0.0.1')).toMatch(/\[0\]:\s+\d+/);
      expect(await poll('-t', '1', '-r', '0', '-c', '2', '127.0.0.1')).toMatch(/\[1\]:\s+1/);
      expect(await poll('-t', '4:float', '-B', '-r', '0', '127.0.0.1', '200')).toContain('Written 1 references');
      await rig.until('the device has it', async () => (await latest('FNK-FC', 'HR 100'))?.raw === 2000);
      expect((await client.readCoils(0, 1)).data[0]).toBe(true);
    });
  });
});

/** Other ways to the same tables. */
const WAYS: [what: string, outbound: string, connect: (client: ModbusRTU) => Promise<void>][] = [
  ['RTU over TCP', 'TPR', (client) => client.connectTelnet('127.0.0.1', { port: rtu })],
  [
    'RTU on a serial line',
    'TPS',
    (client) => client.connectRTUBuffered(join(folder, 'rtu-theirs'), { baudRate: 9600 }),
  ],
  [
    'ASCII on a serial line',
    'TPA',
    (client) => client.connectAsciiSerial(join(folder, 'ascii-theirs'), { baudRate: 9600 }),
  ],
];
describe.each(WAYS)('our server, %s', (_what, outbound, connectBy) => {
  test('is read and written by modbus-serial', async () => {
    await rig.until('it is there', async () => (await rig.hop('outbound', outbound))?.state === 'listening');
    const client = new ModbusRTU();
    // A connection that is reset is no error of the test: what is asked over it fails by itself.
    client.on('error', () => {});
    await connectBy(client);
    client.setTimeout(9000);
    client.setID(OURS);
    const flow = (await client.readInputRegisters(0, 2)).buffer.readFloatBE(0);
    expect(Math.abs(flow - Number((await latest('FNK-FC', 'IR 0'))?.value))).toBeLessThan(20);
    const wanted = Buffer.alloc(4);
    for (const value of [160, 170]) {
      wanted.writeFloatBE(value);
      await client.writeRegisters(0, wanted);
      await rig.until('the device has it', async () => (await latest('FNK-FC', 'HR 100'))?.raw === value * 10);
    }
    await client.writeCoil(0, true);
    expect((await client.readCoils(0, 1)).data[0]).toBe(true);
    await expect(client.writeCoil(77, true)).rejects.toMatchObject({ modbusCode: 2 });
    await new Promise<void>((resolve) => client.close(() => resolve()));
  });
});

test('two of our servers on one serial line answer mbpoll, each by its unit', async () => {
  for (const unit of [OURS, BESIDE]) {
    const { stdout } = await run('mbpoll', [
      ...['-m', 'rtu', '-b', '9600', '-P', 'none', '-1', '-0', '-a', String(unit)],
      ...['-t', '3:float', '-B', '-r', '0', '-c', '1', join(folder, 'rtu-theirs')],
    ]);
    expect(stdout).toMatch(/\[0\]:\s+\d+/);
  }
  await rig.until(
    'both are known',
    async () => (await rig.hop('outbound', 'TPB'))?.connectedFrom === join(folder, 'rtu'),
  );
  expect((await rig.hop('link', 'TPS'))?.state).toBe('connected');
});

test('a dissector finds nothing wrong with any of it', async () => {
  capture.kill('SIGINT');
  await new Promise((resolve) => capture.once('exit', resolve));
  const as = [python, python2, other, third].flatMap((port) => ['-d', `tcp.port==${port},mbtcp`]);
  const fields = ['-T', 'fields', '-e', 'modbus.func_code', '-e', '_ws.malformed', '-e', '_ws.expert.severity'];
  const { stdout } = await run('tshark', ['-r', captured, ...as, '-Y', 'mbtcp', ...fields], { maxBuffer: 1e9 });
  const rows = stdout
    .split('\n')
    .filter((row) => row.trim() !== '')
    .map((row) => row.split('\t'));
  const functions = new Set(rows.flatMap(([codes]) => codes.split(',')));
  expect(rows.filter(([, malformed]) => malformed !== '')).toEqual([]);
  expect([...functions].map(Number).sort((a, b) => a - b)).toEqual([1, 2, 3, 4, 5, 6, 8, 15, 16, 22, 23, 43]);
});
