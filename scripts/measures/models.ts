import { configurationSchema } from '@halvix/core/config';
import { Lane, NO_LINE_TIMING, type LaneCommand, type LaneEffect } from '@halvix/core/line';
import type { ClientCommand, ClientNews, Server, ServerCommand, ServerEffect } from '@halvix/core/protocols';
import {
  clientSettings,
  iecAt,
  IecClient,
  IecServer,
  serverSettings,
  targetAtSchema,
  type IecAt,
  type IecTargetAt,
} from '@halvix/core/protocols/iec61850';
import { readSettings } from '@halvix/core/settings';
import { applyConfiguration, migrateDatabase, openDatabase } from '@halvix/db';
import { clock, Driver, sendTogether, TcpClient } from '@halvix/wire';
import { fork } from 'node:child_process';
import { createServer, type Socket } from 'node:net';
import { fileURLToPath } from 'node:url';
import postgres from 'postgres';
import { z } from 'zod';

/*
 * Reports of models, on loopback:
 *
 * - report: one server with 2,000 values, 1,000 of which change each second, and 16 clients in another process that have
 *   all of them by report: the time from a change to its reading beyond the buffer time.
 * - discover: how long it takes to find out a model of 20,000 attributes.
 * - lost: 100 servers of 200 values each that change 2,000 times a second, into history by the engine: how many of the
 *   changes are not in it.
 */
const settings = readSettings(
  z.object({
    HALVIX_DATABASE_URL: z.string().default(''),
    HALVIX_MIGRATIONS: z.string().default(''),
    HALVIX_MEASURE: z.enum(['report', 'discover', 'lost', 'serve']),
    HALVIX_MODEL_PORT: z.coerce.number().default(0),
    HALVIX_MODEL_COUNT: z.coerce.number().default(1),
    HALVIX_MODEL_VALUES: z.coerce.number().default(2000),
    HALVIX_MODEL_CHANGES: z.coerce.number().default(0),
  }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}
const given = settings.value;
const HOST = '127.0.0.1';
const BUFFER_MS = 50;
const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
const report = (figure: string, value: number, unit: string, more: object = { better: 'lower' }): void =>
  void process.stdout.write(`${JSON.stringify({ figure, value: Number(value.toFixed(3)), unit, ...more })}\n`);

// ---- the server's process

const targetOf = (n: number): IecTargetAt =>
  targetAtSchema.parse({
    ...{ protocol: 'iec61850', device: 'LD0', node: `GGIO${Math.floor(n / 100) + 1}`, object: `AnIn${(n % 100) + 1}` },
    ...{ fc: 'MX', cdc: 'MV' },
  });

/** Servers on ports of their own, whose values change so often; a value is the number of its change. */
function serve(): void {
  const { HALVIX_MODEL_PORT: port, HALVIX_MODEL_COUNT: count, HALVIX_MODEL_VALUES: values } = given;
  const servers = Array.from({ length: count }, (_, n) => modelOn(port + n, values));
  let made = 0;
  let running = false;
  const began = clock.now();
  process.on('message', (message: { run: boolean }) => {
    running = message.run;
    if (!running) process.send?.({ made });
  });
  let owed = 0;
  let last = began;
  setInterval(() => {
    const now = clock.now();
    owed += ((now - last) / 1000) * given.HALVIX_MODEL_CHANGES;
    last = now;
    if (!running) owed = 0;
    const byServer = new Map<number, ServerCommand<IecTargetAt>>();
    for (; owed >= 1; owed--) {
      made++;
      const at = targets[Math.floor(made / count) % values];
      const update = { kind: 'analog' as const, at, value: made, quality: 0, time: now };
      const command = byServer.get(made % count);
      if (command?.type === 'update') (command.updates as object[]).push(update);
      else byServer.set(made % count, { type: 'update', updates: [update] });
    }
    for (const [n, command] of byServer) servers[n].command(command);
  }, 5);
  const targets = Array.from({ length: values }, (_, n) => targetOf(n));
  process.on('SIGTERM', () => process.exit(0));
  process.send?.({ ready: true });
}

function modelOn(port: number, values: number): Driver<ServerCommand<IecTargetAt>, ServerEffect> {
  const points = Array.from({ length: values }, (_, n) => ({ kind: 'analog' as const, at: targetOf(n), deadband: 0 }));
  const settings_ = serverSettings.parse({ maxClients: given.HALVIX_MODEL_COUNT > 1 ? 1 : 16 });
  const server: Server<IecTargetAt> = new IecServer(settings_, points, clock.now());
  const sockets = new Map<number, Socket>();
  let peers = 0;
  const driver = new Driver(server, (effect: ServerEffect) => {
    const socket = sockets.get('peer' in effect ? (effect.peer ?? -1) : -1);
    if (effect.type === 'send' && socket) sendTogether(socket, effect.octets);
    if (effect.type === 'hangUp') socket?.end();
  });
  createServer({ noDelay: true }, (socket) => {
    const peer = ++peers;
    sockets.set(peer, socket);
    socket.on('error', () => {});
    socket.on('data', (octets) => driver.command({ type: 'octets', peer, octets }));
    socket.on('close', () => {
      sockets.delete(peer);
      driver.command({ type: 'went', peer });
    });
    driver.command({ type: 'came', peer });
  }).listen(port, HOST);
  return driver;
}

/** Another process with such servers; `run` begins and ends its changes, and says how many there were. */
async function served(
  more: Record<string, string>,
): Promise<{ run: (on: boolean) => Promise<number>; stop: () => void }> {
  const child = fork(fileURLToPath(import.meta.url), { env: { ...process.env, HALVIX_MEASURE: 'serve', ...more } });
  await new Promise((resolve) => child.once('message', resolve));
  return {
    run: (on) =>
      new Promise((resolve) => {
        if (!on) child.once('message', (message) => resolve((message as { made: number }).made));
        child.send({ run: on });
        if (on) resolve(0);
      }),
    stop: () => void child.kill(),
  };
}

// ---- clients

type Command = ClientCommand<IecAt, never>;

/** A client on a connection of its own. */
function clientOf(
  port: number,
  points: readonly IecAt[],
  onNews: (news: ClientNews) => void,
): (command: Command) => void {
  const now = clock.now();
  const list = points.map((at, id) => ({ id, kind: 'analog' as const, at }));
  const client = new IecClient(clientSettings.parse({ bufferMs: BUFFER_MS }), now, {
    ...{ octetMs: 0, remembered: null, points: list, phase: 1 },
  });
  const framing = { gapMs: 0, reset: () => {}, push: (octets: Uint8Array) => [octets], isFrame: () => true };
  const lane = new Lane<Command, ClientNews, Uint8Array>(NO_LINE_TIMING, framing, now);
  lane.add('D', client as never, now);
  const driver: Driver<LaneCommand<Command>, LaneEffect<ClientNews>> = new Driver(lane, (effect) => {
    if (effect.type === 'send') link.send(effect.octets);
    if (effect.type === 'device') onNews(effect.effect);
  });
  const link = new TcpClient(
    { host: HOST, port, connectTimeoutMs: 2000, reconnectFirstMs: 100, reconnectMaxMs: 500 },
    {
      up: () => driver.start(),
      down: () => driver.stop(),
      data: (octets) => driver.receive(octets),
      changed: () => {},
    },
  );
  link.open();
  return (command) => driver.command({ device: 'D', command });
}

const CLIENTS = 16;
const VALUES = 2000;

async function measureReports(): Promise<void> {
  const port = given.HALVIX_MODEL_PORT;
  const server = await served({ HALVIX_MODEL_VALUES: String(VALUES), HALVIX_MODEL_CHANGES: '1000' });
  const points = Array.from({ length: VALUES }, (_, n) => {
    const { device, node, object } = targetOf(n);
    return iecAt(`${device}/${node}.${object}.mag.f[MX]`);
  });
  const delays: number[] = [];
  let ready = 0;
  let counting = false;
  const seen = Array.from({ length: CLIENTS }, () => 0);
  for (let n = 0; n < CLIENTS; n++)
    clientOf(port, points, (news) => {
      if (news.type === 'communication' && news.state === 'answering') ready++;
      if (news.type !== 'readings' || !counting) return;
      const now = clock.now();
      for (const { event, time } of news.readings)
        if (event && time !== null) {
          seen[n]++;
          delays.push(now - time - BUFFER_MS);
        }
    });
  while (ready < CLIENTS) await pause(50);
  await pause(2000);
  counting = true;
  await server.run(true);
  await pause(20_000);
  const made = await server.run(false);
  await pause(1000);
  server.stop();
  delays.sort((a, b) => a - b);
  const at = (part: number): number => delays[Math.floor(delays.length * part)] ?? NaN;
  report('mms.report_p50_ms', at(0.5), 'ms');
  report('mms.report_p99_ms', at(0.99), 'ms', { better: 'lower', bound: 100 });
  const lost = seen.reduce((sum, one) => sum + Math.abs(made - one), 0);
  report('mms.report_lost', lost, 'changes', { better: 'lower', bound: 0 });
}

async function measureDiscovery(): Promise<void> {
  const port = given.HALVIX_MODEL_PORT;
  // A measured value has eight attributes here.
  const server = await served({ HALVIX_MODEL_VALUES: '2500' });
  const took = await new Promise<number>((resolve) => {
    let began = 0;
    const command = clientOf(port, [], (news) => {
      if (news.type === 'communication' && news.state === 'answering') {
        began = clock.now();
        command({ type: 'survey', id: 's' });
      }
      if (news.type === 'surveyed') resolve(clock.now() - began);
    });
  });
  server.stop();
  report('mms.discover_s', took / 1000, 's', { better: 'lower', bound: 5 });
}

const DEVICES = 100;
const EACH = 200;

async function measureLost(): Promise<void> {
  const port = given.HALVIX_MODEL_PORT;
  const server = await served({
    ...{ HALVIX_MODEL_COUNT: String(DEVICES), HALVIX_MODEL_VALUES: String(EACH), HALVIX_MODEL_CHANGES: '2000' },
  });
  const database = openDatabase(given.HALVIX_DATABASE_URL, { connections: 2, name: 'models-bench' });
  await migrateDatabase(database, given.HALVIX_MIGRATIONS);
  const points = Array.from({ length: EACH }, (_, n) => {
    const { device, node, object } = targetOf(n);
    return { kind: 'analog', at: iecAt(`${device}/${node}.${object}.mag.f[MX]`), name: `Value ${n + 1}` };
  });
  const configuration = configurationSchema.parse({
    ...{ schema: 'halvix.configuration', version: 3, network: 'models', outbounds: [] },
    stations: [{ code: 'S', name: 'Station' }],
    links: Array.from({ length: DEVICES }, (_, n) => ({
      ...{ code: `L${n}`, name: `L${n}`, type: 'tcpClient', protocol: 'iec61850', host: HOST, port: port + n },
    })),
    devices: Array.from({ length: DEVICES }, (_, n) => ({
      ...{ code: `D${n}`, name: `D${n}`, station: 'S', link: `L${n}`, protocol: 'iec61850', settings: {}, points },
    })),
  });
  await applyConfiguration(database, configuration, 'bench', 'lost');
  const sql = postgres(given.HALVIX_DATABASE_URL, { max: 1, onnotice: () => {} });
  const number = async (query: string): Promise<number> => Number((await sql.unsafe(query))[0].n);
  while (
    (await number("select count(*) n from hop_state where kind = 'device' and state->>'state' = 'answering'")) < DEVICES
  )
    await pause(200);
  await pause(3000);
  await server.run(true);
  await pause(30_000);
  const made = await server.run(false);
  const events = (): Promise<number> => number('select count(distinct raw) n from reading where cause = 1');
  for (let n = 0; n < 60 && (await events()) < made; n++) await pause(500);
  const stored = await events();
  const all = await number('select count(*) n from reading where cause = 1');
  server.stop();
  await sql.end();
  report('mms.lost', made - stored, 'changes', { better: 'lower', bound: 0 });
  report('mms.twice', all - stored, 'changes', { better: 'lower', bound: 0 });
}

if (given.HALVIX_MEASURE === 'serve') serve();
else {
  const measures = { report: measureReports, discover: measureDiscovery, lost: measureLost };
  await measures[given.HALVIX_MEASURE]();
  process.exit(0);
}
