import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { ROOT, run } from './run.mjs';

const PERIOD_MS = 1000;
const SETTLE_MS = 3000;
const BETWEEN_MS = 1200;

/**
 * A configuration of many relays of the bench, each polled every second.
 * @param {readonly number[]} ports
 * @param {(code: string, i: number) => object} more  what a device has besides
 */
export function manyRelays(ports, more = () => ({})) {
  const codeOf = (/** @type {number} */ i) => `B${String(i + 1).padStart(2, '0')}`;
  return {
    schema: 'halvix.configuration',
    version: 3,
    network: 'Bench',
    stations: [{ code: 'BEN', name: 'Bench' }],
    links: ports.map((port, i) => ({ code: codeOf(i), name: codeOf(i), type: 'tcpClient', host: '127.0.0.1', port })),
    devices: ports.map((_, i) => ({
      code: codeOf(i),
      name: `Relay ${i + 1}`,
      station: 'BEN',
      link: codeOf(i),
      protocol: 'dnp3',
      settings: { ourAddress: 1, theirAddress: 201 + i, class1PeriodMs: PERIOD_MS, class2PeriodMs: PERIOD_MS },
      points: Array.from({ length: 36 }, (_a, index) => ({
        kind: 'analog',
        at: { protocol: 'dnp3', index },
        name: `Value ${index}`,
      })),
      ...more(codeOf(i), i),
    })),
    outbounds: [],
  };
}

/**
 * Applies changes to the last of the bench's relays while the others are polled, and counts what the others miss: gaps
 * between two requests that are longer than two periods.
 * @param {{ system: import('./system.mjs').System, benchPort: number, ports: readonly number[], folder: string, until: (what: string, holds: () => Promise<boolean>) => Promise<unknown> }} rig
 * @returns {Promise<{ late: number, longestGapMs: number, polls: number, changed: number }>}
 */
export async function measureLatePolls({ system, benchPort, ports, folder, until }) {
  const last = `B${String(ports.length).padStart(2, '0')}`;
  mkdirSync(folder, { recursive: true });
  let changed = 0;
  const apply = async (/** @type {object} */ change) => {
    const file = join(folder, 'many.json');
    writeFileSync(file, JSON.stringify(manyRelays(ports, (code) => (code === last ? change : {}))));
    await run(process.execPath, [join(ROOT, 'dist/halvix.js'), 'config', 'apply', file], { env: system.env });
    changed++;
  };
  const heard = async (/** @type {string} */ code, /** @type {number} */ after) => {
    const answer = await fetch(`http://127.0.0.1:${benchPort}/devices/${code}/heard?after=${after}`);
    return /** @type {Promise<number[]>} */ (answer.json());
  };
  await apply({});
  await until('every relay is polled', async () => {
    const recent = Date.now() - 2000;
    for (let i = 0; i < ports.length; i++)
      if ((await heard(`B${String(i + 1).padStart(2, '0')}`, recent)).length === 0) return false;
    return true;
  });
  await new Promise((resolve) => setTimeout(resolve, SETTLE_MS));
  const began = Date.now();
  changed = 0;
  const settings = { ourAddress: 1, theirAddress: 200 + ports.length };
  const points = (/** @type {number} */ count, word = 'Value') =>
    Array.from({ length: count }, (_, index) => ({
      kind: 'analog',
      at: { protocol: 'dnp3', index },
      name: `${word} ${index}`,
    }));
  for (const change of [
    { settings: { ...settings, retries: 3 } },
    { settings: { ...settings, retries: 3 }, points: points(20) },
    { settings: { ...settings, retries: 3 }, points: points(36, 'Reading') },
    { life: 'outOfService' },
    { settings: { ...settings, responseTimeoutMs: 900 } },
    // A long list, as an engineer may paste one.
    { points: points(20_000) },
  ]) {
    await apply(change);
    await new Promise((resolve) => setTimeout(resolve, BETWEEN_MS));
  }
  await new Promise((resolve) => setTimeout(resolve, SETTLE_MS));
  const ended = Date.now();
  let [late, longestGapMs, polls] = [0, 0, 0];
  for (let i = 0; i + 1 < ports.length; i++) {
    const times = [began, ...(await heard(`B${String(i + 1).padStart(2, '0')}`, began)), ended];
    polls += times.length - 2;
    for (let n = 1; n < times.length; n++) {
      const gap = times[n] - times[n - 1];
      longestGapMs = Math.max(longestGapMs, gap);
      if (gap > 2 * PERIOD_MS) late++;
    }
  }
  return { late, longestGapMs, polls, changed };
}
