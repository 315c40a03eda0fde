import { configurationSchema } from '@halvix/core/config';
import {
  Outstation,
  outstationSettings,
  type OutstationCommand,
  type OutstationEffect,
} from '@halvix/core/protocols/dnp3';
import { databaseSetting, readSettings } from '@halvix/core/settings';
import { applyConfiguration, migrateDatabase, openDatabase, rowsOf } from '@halvix/db';
import { sql } from 'drizzle-orm';
import { clock, Driver, TcpListener } from '@halvix/wire';
import { spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { cpus } from 'node:os';
import { z } from 'zod';

/*
 * One engine with a thousand outstations of a hundred points each on loopback TCP, which make 5000 events a second
 * together and send them unasked. Whether every event is in history exactly once; how long it takes from the event to
 * its confirm, which the engine sends when it is committed; and what processor and memory the engine needs for it. Then
 * more and more events: up to which rate all of them are committed within a second.
 *
 * A machine that is one of several on its host may stand still for a while, or get a part of its processors only.
 * Witnesses that do nothing, one for each processor, see the one, the system's own account the other: a rate that was
 * not borne meanwhile is tried again, and that is said.
 */
const DEVICES = 1000;
const POINTS = 100;
const PER_SECOND = 5000;
const MEASURE_MS = 30_000;
/** The rates after that, as long as one before was borne, and how long each lasts. */
const MORE = [6000, 7000, 8000, 9000, 10_000];
const MORE_MS = 20_000;
const MOST_P99_MS = 1000;
/** A processor that runs nobody's work for longer stands still; a busy one lets a sleeper in much earlier. */
const STANDSTILL_MS = 150;
/** The host gave others more of the processors' time than this, per cent. */
const MOST_TAKEN = 2;
const MOST_TRIES = 6;
/** A burst begins once the host has left us alone for so long; nobody waits for that longer than the other. */
const QUIET_MS = 3000;
const MOST_WAIT_MS = 120_000;
const TICK_MS = 10;
/** Events are gathered for so long before they go out. */
const GATHER_MS = 200;

const settings = readSettings(
  z.object({
    HALVIX_DATABASE_URL: databaseSetting,
    HALVIX_MIGRATIONS: z.string(),
    HALVIX_ENGINE_PID: z.coerce.number().int(),
  }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}
/** An address of their own, with ports that the system gives to nobody by itself. */
const HOST = '127.11.0.1';
const ports = Array.from({ length: DEVICES }, (_, i) => 21_000 + i);

const latencies: number[] = [];
let measuring = false;
let made = 0;
let delivered = 0;

class Device {
  private readonly driver: Driver<OutstationCommand, OutstationEffect>;
  private readonly listener: TcpListener;
  private readonly values = new Array<number>(POINTS).fill(0);
  private next = 0;
  ready = false;

  constructor(port: number) {
    const outstation = new Outstation(
      outstationSettings.parse({
        ourAddress: 11,
        theirAddress: 1,
        unsolicited: true,
        unsolicitedDelayMs: GATHER_MS,
        confirmTimeoutMs: 10_000,
      }),
      Array.from({ length: POINTS }, (_, index) => ({
        kind: 'analog' as const,
        index,
        class: 2 as const,
        staticVariation: 1,
        eventVariation: 3,
        deadband: 0,
      })),
      clock.now(),
    );
    this.driver = new Driver(outstation, (effect) => this.onEffect(effect));
    this.listener = new TcpListener(
      { host: HOST, port, quietMs: 5000 },
      {
        up: () => this.driver.start(),
        down: () => this.driver.stop(),
        data: (bytes) => this.driver.receive(bytes),
        refused: () => {},
        changed: () => {},
      },
    );
    const updates = this.values.map((value, index) => ({ kind: 'analog' as const, index, value, flags: 1, time: 0 }));
    this.driver.command({ type: 'update', updates, quiet: true });
    this.listener.open();
  }

  private onEffect(effect: OutstationEffect): void {
    if (effect.type === 'send') this.listener.send(effect.octets);
    if (effect.type === 'heard') this.listener.heard();
    if (effect.type === 'integrityAnswered') this.ready = true;
    if (effect.type !== 'delivered') return;
    const now = clock.now();
    delivered += effect.events.length;
    if (measuring) for (const { time } of effect.events) latencies.push(now - time);
  }

  change(now: number): void {
    const index = this.next++ % POINTS;
    this.values[index] += 1;
    const update = { kind: 'analog' as const, index, value: this.values[index], flags: 1, time: now };
    this.driver.command({ type: 'update', updates: [update] });
    made++;
  }
}

const devices = ports.map((port) => new Device(port));
const database = openDatabase(settings.value.HALVIX_DATABASE_URL, { connections: 2, name: 'scale-bench' });
await migrateDatabase(database, settings.value.HALVIX_MIGRATIONS);
const configuration = configurationSchema.parse({
  schema: 'halvix.configuration',
  version: 3,
  network: 'scale',
  stations: [{ code: 'S', name: 'Station' }],
  links: ports.map((port, i) => ({ code: `L${i}`, name: `Link ${i}`, type: 'tcpClient', host: HOST, port })),
  devices: ports.map((_, i) => ({
    code: `D${i}`,
    name: `Device ${i}`,
    station: 'S',
    link: `L${i}`,
    protocol: 'dnp3',
    settings: {
      ourAddress: 1,
      theirAddress: 11,
      unsolicitedClasses: [1, 2, 3],
      class1PeriodMs: 30_000,
      class2PeriodMs: 30_000,
      class3PeriodMs: 30_000,
      integrityPeriodMs: 0,
      responseTimeoutMs: 10_000,
      timeSync: 'never',
    },
    points: Array.from({ length: POINTS }, (_p, index) => ({
      kind: 'analog',
      at: { protocol: 'dnp3', index },
      name: `Point ${index}`,
    })),
  })),
  outbounds: [],
});
const applying = clock.now();
await applyConfiguration(database, configuration, 'bench', 'scale');
process.stderr.write(
  `scale: the configuration of ${DEVICES * POINTS} points was applied in ${clock.now() - applying} ms\n`,
);

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
const limit = clock.now() + 90_000;
while (devices.some(({ ready }) => !ready)) {
  if (clock.now() > limit) throw new Error(`${devices.filter((d) => !d.ready).length} devices were never read`);
  await pause(200);
}
await pause(3000);

/** Processor time of the engine so far, milliseconds (proc(5): utime and stime in ticks of 10 ms), and its memory. */
function engineUse(): { cpuMs: number; rssMiB: number } {
  const pid = settings.ok ? settings.value.HALVIX_ENGINE_PID : 0;
  const stat = readFileSync(`/proc/${pid}/stat`, 'utf8');
  const fields = stat.slice(stat.lastIndexOf(')') + 2).split(' ');
  return { cpuMs: (Number(fields[11]) + Number(fields[12])) * 10, rssMiB: (Number(fields[21]) * 4096) / 2 ** 20 };
}

let stoodStill = 0;
const WITNESS = `let last = performance.now(); setInterval(() => { const now = performance.now(); if (now - last > ${STANDSTILL_MS}) process.stdout.write(Math.round(now - last) + '\\n'); last = now; }, 10)`;
const witnesses = cpus().map((_cpu, at) => {
  const witness = spawn('taskset', ['-c', String(at), process.execPath, '-e', WITNESS]);
  // Without them a standstill is nobody's excuse.
  witness.on('error', () => {});
  witness.stdout.on('data', (said: Buffer) => {
    for (const ms of String(said).trim().split('\n')) stoodStill += Number(ms);
  });
  return witness;
});

/** Processor time of the whole machine so far, and what of it the host gave others (proc(5): the eighth is "steal"). */
function machineUse(): { all: number; taken: number } {
  const ticks = readFileSync('/proc/stat', 'utf8').split('\n', 1)[0].split(/\s+/).slice(1, 9).map(Number);
  return { all: ticks.reduce((sum, one) => sum + one, 0), taken: ticks[7] };
}

/** What the host gave others since, per cent. */
function takenSince(before: { all: number; taken: number }): number {
  const after = machineUse();
  return (100 * (after.taken - before.taken)) / Math.max(1, after.all - before.all);
}

/** Resolves once the host leaves the machine alone, or does not for too long, with how long that took. */
async function quietMachine(): Promise<number> {
  const began = clock.now();
  for (;;) {
    const before = machineUse();
    await pause(QUIET_MS);
    if (takenSince(before) <= MOST_TAKEN || clock.now() - began > MOST_WAIT_MS) return clock.now() - began;
  }
}

let turn = 0;
const at = (share: number): number => latencies[Math.floor(latencies.length * share)] ?? NaN;

/** So many events a second for so long; resolves once the engine has confirmed all of them. */
async function burst(
  rate: number,
  forMs: number,
): Promise<{ cpuUsPerEvent: number; cpuPercent: number; rssMiB: number }> {
  latencies.length = 0;
  const [began, first, before] = [clock.now(), made, engineUse()];
  measuring = true;
  const generator = setInterval(() => {
    const now = clock.now();
    const owed = Math.floor(((now - began) * rate) / 1000) - (made - first);
    for (let i = 0; i < owed; i++) devices[turn++ % devices.length].change(now);
  }, TICK_MS);
  await pause(forMs);
  clearInterval(generator);
  const seconds = (clock.now() - began) / 1000;
  const after = engineUse();
  const settled = clock.now() + 20_000;
  while (delivered < made && clock.now() < settled) await pause(100);
  measuring = false;
  latencies.sort((a, b) => a - b);
  const cpuMs = after.cpuMs - before.cpuMs;
  const perSecond = Math.round((made - first) / seconds);
  process.stderr.write(
    `scale: ${perSecond} events a second for ${seconds.toFixed(0)} s; median ${at(0.5)} ms, 99 % within ${at(0.99)} ms, longest ${at(1 - 1e-9)} ms; the engine's processor ${(cpuMs / seconds / 10).toFixed(0)} %\n`,
  );
  return { cpuUsPerEvent: (cpuMs * 1000) / (made - first), cpuPercent: cpuMs / seconds / 10, rssMiB: after.rssMiB };
}

const isBorne = (): boolean => delivered === made && at(0.99) < MOST_P99_MS;
/** A burst; again while the machine stood still during it and it was not borne. */
async function fairBurst(rate: number, forMs: number): ReturnType<typeof burst> {
  for (let tries = 1; ; tries++) {
    const waited = await quietMachine();
    if (waited > QUIET_MS) process.stderr.write(`scale: waited ${waited} ms until the host left the machine alone\n`);
    stoodStill = 0;
    const before = machineUse();
    const use = await burst(rate, forMs);
    const taken = takenSince(before);
    if (isBorne() || (stoodStill === 0 && taken <= MOST_TAKEN) || tries === MOST_TRIES) return use;
    process.stderr.write(
      `scale: meanwhile the machine stood still for ${stoodStill} ms, and its host gave others ${taken.toFixed(1)} % of it; once more\n`,
    );
  }
}

const usual = await fairBurst(PER_SECOND, MEASURE_MS);
const usualP99 = at(0.99);
let borne = isBorne() ? PER_SECOND : 0;
for (const rate of MORE) {
  if (borne === 0) break;
  await fairBurst(rate, MORE_MS);
  if (!isBorne()) break;
  borne = rate;
}
for (const witness of witnesses) witness.kill();

const [{ stored, different }] = await rowsOf<{ stored: number; different: number }>(
  database,
  sql`select count(*)::int as stored, count(distinct (point_id, raw))::int as different from reading where cause = 1`,
);
const report = (figure: string, value: number, unit: string, bound?: number, better = 'lower'): void =>
  void process.stdout.write(
    `${JSON.stringify({ figure, value: Number(value.toFixed(1)), unit, ...(bound === undefined ? {} : { bound }), better })}\n`,
  );
report('scale.lost', made - different, 'events', 0);
report('scale.duplicated', stored - different, 'events', 0);
report('scale.commit_p99_ms', usualP99, 'ms', MOST_P99_MS);
report('scale.events_per_second', borne, 'events/s', MORE.at(-1), 'higher');
report('scale.cpu_us_per_event', usual.cpuUsPerEvent, 'µs');
report('scale.cpu_percent', usual.cpuPercent, '%');
report('scale.rss_mib', usual.rssMiB, 'MiB');
process.exit(0);
