import { afterAll, beforeAll, expect, test } from 'vitest';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { dataFolder, Postgres } from '../../scripts/lib/postgres.mjs';
import { compareEvents, type Logged } from '../rig/count.ts';
import { Rig } from '../rig/rig.ts';

let postgres: Postgres;
let rig: Rig;
beforeAll(async () => {
  const [port] = await freePorts(1);
  // Durable: what is committed has to survive a crash of the database.
  postgres = new Postgres(dataFolder(`test-impaired-${process.pid}/postgres`), port, { durable: true });
  await postgres.reset();
  await postgres.start();
  rig = await (await Rig.make('impairments', postgres)).start();
});
afterAll(async () => {
  await rig.stop();
  await postgres.remove();
});

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
const LINK = '/links/HLM-F1/impairments';
const DEVICE = '/devices/HLM-F1';
const EVENTS_A_SECOND = 100;
const FOR_MS = 2500;

/** What is wrong for a while, each by itself. */
const IMPAIRMENTS: [string, Record<string, number | boolean>][] = [
  ['latency and jitter', { latencyMs: 120, jitterMs: 80 }],
  ['bit rate', { bitRate: 57_600 }],
  ['octets lost', { lostPerMillion: 1500 }],
  ['octets flipped', { flippedPerMillion: 1500 }],
  ['frames dropped', { droppedPercent: 15 }],
  ['silence', { silence: true }],
  ['disconnects', { cutEveryMs: 600 }],
  ['outages', { outageEveryMs: 1500, outageForMs: 700 }],
];

let orders = 0;
/** A control through the centre, us and the relay; what became of it is counted at the relay. */
async function order(): Promise<void> {
  orders++;
  const operation = orders % 2 ? 'latchOn' : 'latchOff';
  await rig.bench('POST', '/centres/QST/controls', { index: 7, operation, mode: 'direct' }).catch(() => {});
}

/** How often the relay carried something out since it was last asked. */
let before = 0;
async function operations(): Promise<number> {
  const { operations: now } = await rig.bench<{ operations: number }>('GET', DEVICE);
  const since = now - before;
  before = now;
  return since;
}

const answering = async (): Promise<void> => {
  await rig.until('it answers', async () => (await rig.hop('device', 'HLM-F1'))?.state === 'answering', 30_000);
};
const emptied = async (): Promise<void> => {
  await rig.until(
    'the relay has handed everything over',
    async () => (await rig.bench<{ eventsWaiting: number }>('GET', DEVICE)).eventsWaiting === 0,
    60_000,
  );
};

test('each impairment and kill -9 of each process under load: every event once, no control twice, recovery by itself', async () => {
  const counts = { made: 0, lost: 0, duplicated: 0, repeated_controls: 0 };
  const told: string[] = [];
  const storm = (perSecond: number): Promise<unknown> => rig.bench('PUT', `${DEVICE}/storm`, { perSecond });

  /** Orders that were carried out more often than given. */
  async function closeControls(given: number, what: string): Promise<void> {
    const done = await operations();
    if (done > given) {
      counts.repeated_controls += done - given;
      told.push(`${what}: ${done} operations for ${given} orders`);
    }
  }
  async function closeEvents(log: readonly Logged[], what: string): Promise<void> {
    const { lost, repeated } = await compareEvents(rig, log, 'HLM-F1');
    counts.made += log.length;
    counts.lost += lost.length;
    counts.duplicated += repeated.length;
    if (lost.length + repeated.length > 0)
      told.push(`${what}: lost ${lost.slice(0, 3).join('; ')}, twice ${repeated.slice(0, 3).join('; ')}`);
  }

  await storm(EVENTS_A_SECOND);
  for (const [what, impairment] of IMPAIRMENTS) {
    await rig.bench('PUT', LINK, impairment);
    await Promise.all([order(), pause(FOR_MS)]);
    await rig.bench('PUT', LINK, {});
    await answering();
    await order();
    await closeControls(2, what);
  }
  for (const [what, faults] of [
    ['a drifting clock', { driftPpm: 50_000 }],
    ['late answers', { answerDelayMs: 600 }],
    ['answers that come too late', { answerDelayMs: 1500 }],
  ] as const) {
    await rig.bench('PUT', `${DEVICE}/faults`, faults);
    await Promise.all([order(), pause(FOR_MS)]);
    await rig.bench('PUT', `${DEVICE}/faults`, {});
    await answering();
    await closeControls(1, what);
  }
  await rig.bench('POST', `${DEVICE}/reboot`);
  await pause(4000);
  await answering();
  await storm(EVENTS_A_SECOND);

  // Each process in turn, without a chance to tidy up.
  await pause(1500);
  const whileKilled = order();
  await rig.system.kill('engine');
  await pause(300);
  await rig.startEngine();
  await Promise.all([whileKilled, pause(2000)]);
  await answering();
  await closeControls(1, 'the engine killed');
  await postgres.kill();
  await Promise.all([order(), pause(1000)]);
  await postgres.start();
  await rig.until('history is written again', async () => {
    const health = await fetch(`http://127.0.0.1:${rig.ports.engine}/healthz`).catch(() => null);
    return health?.ok === true;
  });
  await pause(2000);
  await answering();
  await closeControls(1, 'the database killed');
  await storm(0);
  await emptied();
  const whole = await rig.bench<Logged[]>('GET', `${DEVICE}/log`);
  // The relay lives on: the last of these are polled within a second, counters within five.
  await pause(6500);
  await closeEvents(whole, 'before the bench was killed');

  // The bench with everything in it: what the device has not handed over by then is gone with it.
  await storm(EVENTS_A_SECOND);
  await pause(3000);
  const log = await rig.bench<Logged[]>('GET', `${DEVICE}/log`);
  await rig.system.kill('bench');
  await pause(500);
  rig.system.start('bench');
  await rig.system.waitFor('bench');
  await answering();
  await pause(3000);
  const fresh = log.slice(-500).map((event) => ({ ...event, state: event.state === 'waiting' ? 'gone' : event.state }));
  await closeEvents(fresh as Logged[], 'as the bench was killed');
  await emptied();

  for (const [figure, value] of Object.entries(counts))
    if (figure !== 'made')
      process.stdout.write(
        `${JSON.stringify({ figure: `faults.${figure}`, value, unit: figure === 'repeated_controls' ? 'controls' : 'events', bound: 0, better: 'lower' })}\n`,
      );
  process.stdout.write(`impairments: ${counts.made} events made, ${orders} controls given\n`);
  expect(told).toEqual([]);
  expect(counts.made).toBeGreaterThan(3000);
}, 240_000);
