import { configurationSchema } from '@halvix/core/config';
import {
  Outstation,
  outstationSettings,
  type OutstationCommand,
  type OutstationEffect,
} from '@halvix/core/protocols/dnp3';
import { databaseSetting, portSetting, readSettings } from '@halvix/core/settings';
import { applyConfiguration, migrateDatabase, openDatabase } from '@halvix/db';
import { clock, Driver } from '@halvix/wire';
import { z } from 'zod';
import { impairmentsSchema } from '../../bench/impairments.ts';
import { ListeningLink } from '../../bench/link.ts';

/*
 * How well the engine uses a slow line: eight drops at 9600 bit/s and 11 bits an octet, 60 points each, of which 2 %
 * change in each cycle. The line is simulated with real timing; the engine is a process of its own that commits to a
 * real database before it confirms.
 *
 * The cycle is the time from one request to the next of the same drop. Against it stands the sum of the line times of
 * all octets that went over the line in that time: requests, answers and confirms.
 */
const DROPS = 8;
const POINTS = 60;
const BIT_RATE = 9600;
const BITS_PER_OCTET = 11;
const OCTET_MS = (1000 * BITS_PER_OCTET) / BIT_RATE;
const MEASURE_MS = 30_000;
const WARM_UP_MS = 8000;
/** Longer than the time in which dead drops are found out. */
const FIRST_ROUND_MS = 15_000;

const settings = readSettings(
  z.object({ HALVIX_DATABASE_URL: databaseSetting, HALVIX_MIGRATIONS: z.string(), HALVIX_LINE_PORT: portSetting(0) }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}
const port = settings.value.HALVIX_LINE_PORT;
const line = new ListeningLink('127.0.0.1', 'LINE', 'Eight drops', port, true);
line.impair(impairmentsSchema.parse({ bitRate: BIT_RATE, bitsPerOctet: BITS_PER_OCTET }));

const kindOf = (n: number): { kind: 'binary' | 'analog'; index: number } =>
  n < 20 ? { kind: 'binary', index: n } : { kind: 'analog', index: n - 20 };

/** A drop that changes 2 % of its points, 1.2 of 60, between two of its polls. */
class Drop {
  readonly requests: number[] = [];
  dead = false;
  private owed = 0;
  private next = 0;
  private readonly driver: Driver<OutstationCommand, OutstationEffect>;

  constructor(readonly address: number) {
    const outstation = new Outstation(
      outstationSettings.parse({ ourAddress: address, theirAddress: 1 }),
      Array.from({ length: POINTS }, (_, n) => ({
        ...kindOf(n),
        class: n < 20 ? (1 as const) : (2 as const),
        staticVariation: 2,
        eventVariation: n < 20 ? 2 : 4,
        deadband: 0,
      })),
      clock.now(),
    );
    this.driver = new Driver(outstation, (effect) => {
      if (effect.type === 'send') line.send(effect.octets);
      if (effect.type === 'heard' && !this.dead) this.requests.push(clock.now());
      if (effect.type === 'reported') this.change();
    });
    const quiet = Array.from({ length: POINTS }, (_, n) => ({ ...kindOf(n), value: 0, flags: 1, time: clock.now() }));
    this.driver.command({ type: 'update', updates: quiet, quiet: true });
    this.change();
    void line.join({
      up: () => this.driver.start(),
      down: () => this.driver.stop(),
      data: (octets) => {
        if (!this.dead) this.driver.receive(octets);
      },
    });
  }

  private change(): void {
    this.owed += POINTS * 0.02;
    for (; this.owed >= 1; this.owed--) {
      const n = this.next++ % POINTS;
      const { kind, index } = kindOf(n);
      const value = kind === 'binary' ? (Math.floor(this.next / POINTS) % 2) ^ 1 : 100 + this.next;
      // After the answer that is just being made.
      setImmediate(() =>
        this.driver.command({
          type: 'update',
          updates: [{ kind, index, value, flags: 1, time: clock.now(), exact: true }],
        }),
      );
    }
  }
}

const drops = Array.from({ length: DROPS }, (_, i) => new Drop(11 + i));
const database = openDatabase(settings.value.HALVIX_DATABASE_URL, { connections: 2, name: 'line-bench' });
await migrateDatabase(database, settings.value.HALVIX_MIGRATIONS);
const configuration = configurationSchema.parse({
  schema: 'halvix.configuration',
  version: 3,
  network: 'line',
  stations: [{ code: 'S', name: 'Station' }],
  links: [
    {
      code: 'LINE',
      name: 'Eight drops',
      type: 'tcpClient',
      host: '127.0.0.1',
      port,
      // 8 data bits, even parity, 1 stop bit: 11 bits an octet.
      line: { bitRate: BIT_RATE, parity: 'even' },
    },
  ],
  devices: drops.map(({ address }, i) => ({
    code: `D${i + 1}`,
    name: `Drop ${i + 1}`,
    station: 'S',
    link: 'LINE',
    protocol: 'dnp3',
    settings: {
      ourAddress: 1,
      theirAddress: address,
      // As often as the line allows.
      class1PeriodMs: 100,
      class2PeriodMs: 100,
      class3PeriodMs: 0,
      integrityPeriodMs: 0,
      responseTimeoutMs: 1000,
      timeSync: 'never',
    },
    points: Array.from({ length: POINTS }, (_, n) => {
      const { kind, index } = kindOf(n);
      return { kind, at: { protocol: 'dnp3', index }, name: `Point ${n}` };
    }),
  })),
  outbounds: [],
});
await applyConfiguration(database, configuration, 'bench', 'line');

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

/** Elapsed time over the line time of the octets, from one request of a drop to a later one of it. */
async function measure(): Promise<{ ratio: number; cycleMs: number; rounds: number }> {
  const live = drops.filter(({ dead }) => !dead);
  const [first] = live;
  const nextRequest = async (): Promise<void> => {
    const before = first.requests.length;
    while (first.requests.length === before) await pause(1);
  };
  await nextRequest();
  const began = { at: clock.now(), octets: line.report().counts.passed, polls: live.map((d) => d.requests.length) };
  await pause(MEASURE_MS);
  await nextRequest();
  const elapsed = clock.now() - began.at;
  const octets = line.report().counts.passed - began.octets;
  const polls = Math.min(...live.map((d, i) => d.requests.length - began.polls[i]));
  return { ratio: elapsed / (octets * OCTET_MS), cycleMs: (elapsed / polls) * 2, rounds: polls / 2 };
}

const report = (figure: string, value: number, bound: number): void =>
  void process.stdout.write(
    `${JSON.stringify({ figure, value: Number(value.toFixed(3)), unit: 'ratio', bound, better: 'lower' })}\n`,
  );
const limit = clock.now() + 60_000;
while (drops.some(({ requests }) => requests.length < 5)) {
  if (clock.now() > limit) throw new Error('the engine does not poll all drops');
  await pause(100);
}
await pause(WARM_UP_MS);
const whole = await measure();
report('line.dnp3_cycle_ratio', whole.ratio, 1.05);
process.stderr.write(`line: eight drops, ${whole.rounds} rounds of ${whole.cycleMs.toFixed(0)} ms\n`);
drops[2].dead = true;
drops[5].dead = true;
await pause(FIRST_ROUND_MS);
const two = await measure();
report('line.dnp3_cycle_ratio_two_dead', two.ratio, 1.25);
process.stderr.write(`line: two of them dead, ${two.rounds} rounds of ${two.cycleMs.toFixed(0)} ms\n`);
process.exit(0);
