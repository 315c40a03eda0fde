import { connect, type Socket } from 'node:net';
import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { Rig } from '../rig/rig.ts';

let rig: Rig;
beforeAll(async () => {
  rig = await (await Rig.make('faults', inject('postgres'))).start();
});
afterAll(() => rig.stop());

interface Logged {
  number: number;
  kind: string;
  index: number;
  value: number;
  time: number;
}
const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

describe('kill -9 of the engine', () => {
  test('while 200 events a second come in: every event is stored exactly once', async () => {
    await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 200 });
    for (const runMs of [2500, 1500, 700, 2100, 1200]) {
      await pause(runMs);
      await rig.system.kill('engine');
      await pause(300);
      await rig.startEngine();
    }
    await pause(3000);
    await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 0 });
    await pause(500);
    const log = await rig.bench<Logged[]>('GET', '/devices/HLM-F1/log');
    // Model events go on; what the relay had made until now has to arrive.
    const lastTime = log.at(-1)!.time;
    await rig
      .until(
        'all stored',
        async () => {
          const [{ stored }] =
            await rig.sql`select count(*)::int as stored from reading where cause = 1 and time <= ${new Date(lastTime)}`;
          return (stored as number) >= log.length;
        },
        20_000,
      )
      .catch(() => {});
    await pause(1500);
    const rows = await rig.sql`
      select kind, index, raw, (extract(epoch from time) * 1000)::float8 as time, count(*)::int as times
      from reading join point_identity on id = point_id where cause = 1 group by kind, index, raw, time`;
    const stored = new Map(
      rows.map((r) => [`${r.kind} ${r.index} ${r.raw} ${Math.round(r.time as number)}`, r.times as number]),
    );
    const made = new Map<string, number>();
    for (const e of log) {
      const key = `${e.kind} ${e.index} ${e.value} ${e.time}`;
      made.set(key, (made.get(key) ?? 0) + 1);
    }
    const lost = [...made].filter(([key, times]) => (stored.get(key) ?? 0) < times);
    const repeated = [...made].filter(([key, times]) => (stored.get(key) ?? 0) > times);
    process.stdout.write(`kill -9: ${log.length} events made, ${lost.length} lost, ${repeated.length} stored twice\n`);
    expect(log.length).toBeGreaterThan(2000);
    expect(lost.slice(0, 5)).toEqual([]);
    expect(repeated.slice(0, 5)).toEqual([]);
  });
});

/** A raw connection to an outbound port that collects what comes back. */
function raw(port: number): Promise<{ socket: Socket; received: () => Buffer; closed: () => boolean }> {
  return new Promise((resolve, reject) => {
    let got = Buffer.alloc(0);
    let closed = false;
    const socket = connect(port, '127.0.0.1', () => resolve({ socket, received: () => got, closed: () => closed }));
    socket.on('data', (bytes) => (got = Buffer.concat([got, bytes])));
    socket.on('close', () => (closed = true));
    socket.on('error', reject);
  });
}

/** Frames by hand: request link status, and read class 1 as one fragment; checksums from memory of nothing but the standard. */
function crc(bytes: Buffer): Buffer {
  let register = 0;
  for (const octet of bytes) {
    register ^= octet;
    for (let bit = 0; bit < 8; bit++) register = register & 1 ? (register >>> 1) ^ 0xa6bc : register >>> 1;
  }
  const value = ~register & 0xffff;
  return Buffer.from([value & 0xff, value >>> 8]);
}
function frame(source: number, destination: number, data: Buffer, control = 0xc4): Buffer {
  const header = Buffer.from([
    0x05,
    0x64,
    5 + data.length,
    control,
    destination & 255,
    destination >>> 8,
    source & 255,
    source >>> 8,
  ]);
  const blocks: Buffer[] = [header, crc(header)];
  for (let at = 0; at < data.length; at += 16) blocks.push(data.subarray(at, at + 16), crc(data.subarray(at, at + 16)));
  return Buffer.concat(blocks);
}
const LINK_STATUS = (source: number): Buffer => frame(source, 10, Buffer.alloc(0), 0xc9);
const CLASS_0 = Buffer.from([0xc0, 0xc0, 0x01, 60, 1, 0x06]);

describe('strangers at the standby port', () => {
  const counters = async (): Promise<Record<string, number>> => (await rig.hop('outbound', 'AMB')).counters;

  test('garbage, another master address and an over-long fragment are counted and survived', async () => {
    const { socket, received } = await raw(rig.ports.ambry);
    socket.write(Buffer.from(Array.from({ length: 700 }, (_, i) => (i * 37) & 0xff)));
    socket.write(frame(55, 10, CLASS_0));
    const segments = Array.from({ length: 10 }, (_, i) =>
      Buffer.concat([Buffer.from([(i === 0 ? 0x40 : 0) | i]), Buffer.alloc(249)]),
    );
    for (const segment of segments) socket.write(frame(101, 10, segment));
    await rig.until('counted', async () => {
      const now = await counters();
      return now.noiseOctets >= 700 && now.otherSource === 1 && now.overlongFragments === 1;
    });
    expect(received()).toHaveLength(0);
    socket.write(frame(101, 10, CLASS_0));
    await rig.until('still answers', async () => received().length > 300);
    socket.destroy();
  });

  test('a second master on the same port is refused while the first one is in use, and said so', async () => {
    const first = await raw(rig.ports.ambry);
    first.socket.write(LINK_STATUS(101));
    await rig.until('the first one is answered', async () => first.received().length === 10);
    const second = await raw(rig.ports.ambry);
    await rig.until('the second one is closed', async () => second.closed());
    expect(first.closed()).toBe(false);
    await rig.until('shown', async () => {
      const state = await rig.hop('outbound', 'AMB');
      return state.connectionsRefused >= 1 && state.lastProblem.words.includes('refused');
    });
    first.socket.destroy();
  });

  test('a stranger that never says anything valid does not keep the centre out', async () => {
    const stranger = await raw(rig.ports.ambry);
    stranger.socket.write(LINK_STATUS(77));
    await pause(100);
    await rig.bench('PUT', '/centres/AMB/power', { on: true });
    await rig.until(
      'the centre gets through',
      async () => (await rig.bench<{ state: string }>('GET', '/centres/AMB')).state === 'answering',
    );
    await rig.bench('PUT', '/centres/AMB/power', { on: false });
    stranger.socket.destroy();
  });
});
