import { configurationSchema } from '@halvix/core/config';
import type { ClientCommand, ClientNews, ServerCommand, ServerEffect, ServerUpdate } from '@halvix/core/protocols';
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
import { clock, type Driver } from '@halvix/wire';
import { fileURLToPath } from 'node:url';
import postgres from 'postgres';
import { z } from 'zod';
import { clientOn, HOST, onDemand, pause, report, served, serverOn, Spell } from './loopback.ts';

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
const BUFFER_MS = 50;
const PROGRAM = fileURLToPath(import.meta.url);

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
  const targets = Array.from({ length: values }, (_, n) => targetOf(n));
  const byServer = new Map<number, ServerUpdate<IecTargetAt>[]>();
  onDemand(
    given.HALVIX_MODEL_CHANGES,
    (made, time) => {
      const at = targets[Math.floor(made / count) % values];
      const updates = byServer.get(made % count) ?? [];
      updates.push({ kind: 'analog', at, value: made, quality: 0, time });
      byServer.set(made % count, updates);
    },
    () => {
      for (const [n, updates] of byServer) servers[n].command({ type: 'update', updates });
      byServer.clear();
    },
  );
}

function modelOn(port: number, values: number): Driver<ServerCommand<IecTargetAt>, ServerEffect> {
  const points = Array.from({ length: values }, (_, n) => ({ kind: 'analog' as const, at: targetOf(n), deadband: 0 }));
  const settings_ = serverSettings.parse({ maxClients: given.HALVIX_MODEL_COUNT > 1 ? 1 : 16 });
  return serverOn<IecTargetAt>(port, new IecServer(settings_, points, clock.now()));
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
  return clientOn(port, client as never, onNews).command;
}

const CLIENTS = 16;
const VALUES = 2000;

async function measureReports(): Promise<void> {
  const port = given.HALVIX_MODEL_PORT;
  const server = await served(PROGRAM, { HALVIX_MODEL_VALUES: String(VALUES), HALVIX_MODEL_CHANGES: '1000' });
  const points = Array.from({ length: VALUES }, (_, n) => {
    const { device, node, object } = targetOf(n);
    return iecAt(`${device}/${node}.${object}.mag.f[MX]`);
  });
  const spell = new Spell(CLIENTS);
  let ready = 0;
  for (let n = 0; n < CLIENTS; n++)
    clientOf(port, points, (news) => {
      if (news.type === 'communication' && news.state === 'answering') ready++;
      spell.note(n, news, BUFFER_MS);
    });
  while (ready < CLIENTS) await pause(50);
  await spell.measure(server, {
    ...{ p50: 'mms.report_p50_ms', p99: 'mms.report_p99_ms', bound: 100, lost: 'mms.report_lost' },
  });
}

async function measureDiscovery(): Promise<void> {
  const port = given.HALVIX_MODEL_PORT;
  // A measured value has eight attributes here.
  const server = await served(PROGRAM, { HALVIX_MODEL_VALUES: '2500' });
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
  const server = await served(PROGRAM, {
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
