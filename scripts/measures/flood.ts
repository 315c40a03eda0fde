import { Lane, NO_LINE_TIMING, type LaneCommand, type LaneEffect } from '@halvix/core/line';
import { mappingTo } from '@halvix/core/mapping';
import type { Client, ClientCommand, ClientNews } from '@halvix/core/protocols';
import { encodeLinkFrame } from '@halvix/core/protocols/dnp3';
import { clientSettings as modelSettings, IecClient } from '@halvix/core/protocols/iec61850';
import { encodeFrame, encodeRequest } from '@halvix/core/protocols/modbus';
import { clientSettings as agreementSettings, TaseClient } from '@halvix/core/protocols/tase2';
import { databaseSetting, portSetting, readSettings } from '@halvix/core/settings';
import { applyConfiguration, newestRevision, openDatabase } from '@halvix/db';
import { clock, Driver } from '@halvix/wire';
import ModbusRTU from 'modbus-serial';
import { fork } from 'node:child_process';
import { connect, type Socket } from 'node:net';
import { fileURLToPath } from 'node:url';
import { z } from 'zod';
import { configurationSchema } from '@halvix/core/config';
import { IEC_61850 } from '../../bench/iec61850/centre.ts';
import { OUR_DOMAIN } from '../../bench/scenario/tase2.ts';
import { tase2 } from '../../bench/tase2/centre.ts';
import { HOST, pause, report } from './loopback.ts';

/*
 * One client on each of the four servers of an engine, of the demo's stations, that asks at full speed: as much as the
 * connection takes, all four at once. Meanwhile: how long `/healthz` takes to answer, how late the engine's own polls of a
 * relay are, how long another client of the flooded server waits, and what becomes of the controls of a centre.
 */
const settings = readSettings(
  z.object({
    HALVIX_MEASURE: z.enum(['measure', 'flood']).default('measure'),
    HALVIX_DATABASE_URL: databaseSetting,
    HALVIX_ENGINE_PORT: portSetting(0),
    HALVIX_BENCH_PORT: portSetting(0),
    HALVIX_FLOOD_DNP3: portSetting(0),
    HALVIX_FLOOD_MODBUS: portSetting(0),
    HALVIX_FLOOD_MODEL: portSetting(0),
    HALVIX_FLOOD_AGREEMENT: portSetting(0),
  }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}
const ports = settings.value;
const QUIET_MS = 5000;
const FLOOD_MS = 30_000;
const PERIOD_MS = 1000;

// ---- the clients at full speed

/** Requests as fast as the connection takes them; answers are counted in octets and thrown away. */
class Flood {
  octetsIn = 0;
  octetsOut = 0;
  ended = 0;

  pump(socket: Socket, requests: Uint8Array): void {
    const many = Buffer.concat(Array.from({ length: Math.ceil(65_536 / requests.length) }, () => requests));
    const go = (): void => {
      do this.octetsOut += many.length;
      while (!socket.destroyed && socket.write(many));
    };
    socket.on('drain', go);
    go();
  }

  /** On a connection of its own, made again when it is ended. */
  run(port: number, begin: (socket: Socket) => void): void {
    const socket = connect({ host: HOST, port, noDelay: true });
    socket.on('error', () => {});
    socket.on('data', (octets) => (this.octetsIn += octets.length));
    socket.on('connect', () => begin(socket));
    socket.on('close', () => {
      this.ended++;
      setTimeout(() => this.run(port, begin), 50);
    });
  }
}

/** Reads of all classes, one in each frame, numbered as a master numbers them. */
function classReads(): Uint8Array {
  const all = [0x3c, 2, 6, 0x3c, 3, 6, 0x3c, 4, 6, 0x3c, 1, 6];
  const frames = Array.from({ length: 16 }, (_, n) =>
    encodeLinkFrame({
      ...{ fromMaster: true, primary: true, countBit: false, countValid: false, functionCode: 4 },
      ...{ destination: 10, source: 101, data: Uint8Array.of(0xc0 | n, 0xc0 | n, 1, ...all) },
    }),
  );
  return Buffer.concat(frames);
}

const registerRead = (): Uint8Array => encodeFrame('tcp', 1, 7, encodeRequest({ code: 4, address: 0, count: 4 }));

/** What a client of ours sends last once it polls is repeated for ever. */
function lastOf<At>(
  socket: Socket,
  client: Client<At, never, Uint8Array>,
  parse: (address: string) => At,
  then: (octets: Uint8Array) => void,
): void {
  const framing = { gapMs: 0, reset: () => {}, push: (octets: Uint8Array) => [octets], isFrame: () => true };
  const lane = new Lane<ClientCommand<At, never>, ClientNews, Uint8Array>(NO_LINE_TIMING, framing, clock.now());
  lane.add('D', client, clock.now());
  let last: Uint8Array = Uint8Array.of();
  const driver: Driver<LaneCommand<ClientCommand<At, never>>, LaneEffect<ClientNews>> = new Driver(lane, (effect) => {
    if (effect.type === 'send') {
      last = effect.octets;
      socket.write(effect.octets);
    }
    if (effect.type !== 'device') return;
    const { effect: news } = effect;
    if (news.type === 'communication' && news.state === 'answering') command({ type: 'survey', id: 'all' });
    if (news.type === 'surveyed')
      command({
        type: 'setPoints',
        points: news.found.slice(0, 20).map(({ kind, address }, id) => ({ id, kind, at: parse(address) })),
      });
  });
  const command = (wanted: ClientCommand<At, never>): void => driver.command({ device: 'D', command: wanted });
  const hear = (octets: Uint8Array): void => driver.receive(octets);
  socket.on('data', hear);
  driver.start();
  setTimeout(() => {
    driver.close();
    socket.off('data', hear);
    if (!socket.destroyed) then(last);
  }, 3000);
}

function flood(): void {
  const floods: Record<string, Flood> = {};
  const one = (name: string, port: number, begin: (flood: Flood, socket: Socket) => void): void => {
    const by = (floods[name] = new Flood());
    by.run(port, (socket) => begin(by, socket));
  };
  one('DNP3', ports.HALVIX_FLOOD_DNP3, (by, socket) => by.pump(socket, classReads()));
  one('Modbus', ports.HALVIX_FLOOD_MODBUS, (by, socket) => by.pump(socket, registerRead()));
  one('models', ports.HALVIX_FLOOD_MODEL, (by, socket) => {
    const polls = modelSettings.parse({ reports: 'none', pollMs: 200, makeSets: false });
    const client = new IecClient(polls, clock.now(), { octetMs: 0, remembered: null, points: [], phase: 1 });
    lastOf(socket, client as never, IEC_61850.parse, (octets) => by.pump(socket, octets));
  });
  one('agreements', ports.HALVIX_FLOOD_AGREEMENT, (by, socket) => {
    const polls = agreementSettings.parse({ domain: OUR_DOMAIN, reports: false, pollMs: 200 });
    const client = new TaseClient(polls, clock.now(), { octetMs: 0, remembered: null, points: [], phase: 1 });
    lastOf(socket, client as never, tase2(OUR_DOMAIN).parse, (octets) => by.pump(socket, octets));
  });
  process.on('message', () =>
    process.send?.(
      Object.fromEntries(
        Object.entries(floods).map(([name, { octetsIn, octetsOut, ended }]) => [name, { octetsIn, octetsOut, ended }]),
      ),
    ),
  );
}

// ---- the others

const bench = async <Answer>(method: string, path: string, body?: object): Promise<Answer> => {
  const url = `http://${HOST}:${ports.HALVIX_BENCH_PORT}${path}`;
  const answer = await fetch(url, { method, ...(body ? { body: JSON.stringify(body) } : {}) });
  if (!answer.ok) throw new Error(`${method} ${path}: ${await answer.text()}`);
  return answer.json() as Promise<Answer>;
};

/** A server of registers beside those of the demo. */
async function addRegisters(): Promise<void> {
  const database = openDatabase(ports.HALVIX_DATABASE_URL, { connections: 1, name: 'flood-bench' });
  const revision = await newestRevision(database);
  if (revision === null) throw new Error('nothing is applied');
  const { links, outbounds, devices, ...rest } = revision.configuration;
  const relay = devices.find(({ code }) => code === 'HLM-F1');
  const mappings = (relay?.points ?? [])
    .filter(({ kind }) => kind === 'analog')
    .map(({ kind, at }, n) => mappingTo({ device: 'HLM-F1', kind, at }, 'modbus', kind, n, 'engineering'));
  const code = 'FLD';
  const configuration = configurationSchema.parse({
    ...rest,
    devices,
    links: [
      ...links,
      {
        ...{ code, name: code, type: 'tcpServer', protocol: 'modbus', framing: 'tcp', host: HOST },
        port: ports.HALVIX_FLOOD_MODBUS,
      },
    ],
    outbounds: [
      ...outbounds,
      {
        ...{ code, name: code, centre: 'Clients of registers', protocol: 'modbus', link: code },
        ...{ allowFrom: ['127.0.0.1/32'], settings: { unitId: 7 }, mappings },
      },
    ],
  });
  await applyConfiguration(database, configuration, 'bench', 'registers');
  await database.$client.end();
}

/** Times of something done again and again, milliseconds. */
class Times {
  private all: number[] = [];
  failed = 0;
  why: string | null = null;
  async take(work: () => Promise<unknown>): Promise<void> {
    const began = performance.now();
    try {
      await work();
    } catch (error) {
      this.failed++;
      this.why ??= error instanceof Error ? error.message : String(error);
    }
    this.all.push(performance.now() - began);
  }
  at(part: number): number {
    this.all.sort((a, b) => a - b);
    return Math.round(this.all[Math.min(this.all.length - 1, Math.floor(this.all.length * part))] ?? NaN);
  }
  get count(): number {
    return this.all.length;
  }
}

interface Spell {
  health: Times;
  registers: Times;
  controls: Times;
  longestGapMs: number;
  failures: string[];
}

/** Not one of those that are flooded, on a connection of its own. */
const CENTRE = 'QST';

async function spell(ms: number): Promise<Spell> {
  const [health, registers, controls] = [new Times(), new Times(), new Times()];
  const failures: string[] = [];
  const began = clock.now();
  const until = began + ms;
  const again = async (everyMs: number, work: () => Promise<unknown>): Promise<void> => {
    while (clock.now() < until) {
      await work();
      await pause(everyMs);
    }
  };
  const client = new ModbusRTU();
  await client.connectTCP(HOST, { port: ports.HALVIX_FLOOD_MODBUS });
  client.setID(7);
  client.setTimeout(20_000);
  let n = 0;
  await Promise.all([
    again(100, () =>
      health.take(() =>
        fetch(`http://${HOST}:${ports.HALVIX_ENGINE_PORT}/healthz`).then(async (answer) => {
          await answer.text();
          if (!answer.ok) throw new Error('not healthy');
        }),
      ),
    ),
    again(100, () => registers.take(() => client.readInputRegisters(0, 4))),
    again(1500, async () => {
      const order = { index: 0, mode: 'selectOperate', operation: n++ % 2 === 0 ? 'trip' : 'close' };
      await controls.take(async () => {
        const steps = await bench<{ step: string }[]>('POST', `/centres/${CENTRE}/controls`, order);
        if (steps.at(-1)?.step === 'operated') return;
        failures.push(JSON.stringify(steps.at(-1)));
        throw new Error('not accepted');
      });
    }),
  ]);
  client.close(() => {});
  const heard = await bench<number[]>('GET', `/devices/HLM-F1/heard?after=${Math.floor(began)}`);
  const times = [began, ...heard, clock.now()];
  const gaps = times.slice(1).map((time, at) => time - times[at]);
  return { health, registers, controls, longestGapMs: Math.max(...gaps), failures };
}

const words = (name: string, { health, registers, controls, longestGapMs, failures }: Spell): void =>
  void process.stderr.write(
    `${name}: health ${health.at(0.5)}/${health.at(0.99)}/${health.at(1)} ms (${health.count}, ${health.failed} failed), ` +
      `registers ${registers.at(0.5)}/${registers.at(0.99)}/${registers.at(1)} ms (${registers.count}, ${registers.failed} failed: ${registers.why}), ` +
      `controls ${controls.at(0.5)}/${controls.at(1)} ms (${controls.count}, ${controls.failed} failed), ` +
      `longest gap between polls ${Math.round(longestGapMs)} ms ${failures.slice(0, 3).join('; ')}\n`,
  );

async function measure(): Promise<void> {
  await addRegisters();
  for (let tries = 0; ; tries++) {
    const heard = await bench<number[]>('GET', `/devices/HLM-F1/heard?after=${clock.now() - 2000}`);
    const centre = await bench<{ state: string }>('GET', '/centres/QST');
    if (heard.length > 0 && centre.state === 'answering') break;
    if (tries > 300) throw new Error('the system does not come up');
    await pause(100);
  }
  await pause(3000);
  words('quiet', await spell(QUIET_MS));
  const child = fork(fileURLToPath(import.meta.url), { env: { ...process.env, HALVIX_MEASURE: 'flood' } });
  // The two with associations record what they repeat.
  await pause(4000);
  const flooded = await spell(FLOOD_MS);
  const counts = await new Promise<object>((resolve) => {
    child.once('message', (message) => resolve(message as object));
    child.send('counts');
  });
  child.kill();
  words('flooded', flooded);
  process.stderr.write(`asked and answered: ${JSON.stringify(counts)}\n`);
  report('flood.health_ms', flooded.health.at(0.99), 'ms', { bound: 1000, better: 'lower' });
  report('flood.registers_ms', flooded.registers.at(0.99), 'ms', { bound: 1000, better: 'lower' });
  report('flood.late_ms', Math.max(0, flooded.longestGapMs - PERIOD_MS), 'ms', { bound: 1000, better: 'lower' });
  report('flood.controls_failed', flooded.controls.failed, 'controls', { bound: 0, better: 'lower' });
  process.exit(0);
}

if (ports.HALVIX_MEASURE === 'flood') flood();
else await measure();
