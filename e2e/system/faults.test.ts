import { connect, type Socket } from 'node:net';
import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { countEvents } from '../rig/count.ts';
import { Proxy } from '../rig/proxy.ts';
import { Rig } from '../rig/rig.ts';

let rig: Rig;
beforeAll(async () => {
  rig = await (await Rig.make('faults', inject('postgres'))).start();
});
afterAll(() => rig.stop());

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

describe('exactly once', () => {
  let proxy: Proxy;
  beforeAll(async () => {
    // The engine reaches the relay through a wire that can swallow its confirms.
    const [port] = await freePorts(1);
    proxy = new Proxy(port, rig.ports.relay);
    const [{ document }] = await rig.sql`select document from revision order by id desc limit 1`;
    document.links.find(({ code }: { code: string }) => code === 'HLM-LAN-F1').port = port;
    await rig.sql`insert into revision (document, author, note, applied) values (${rig.sql.json(document)}, 'test', 'proxy', now())`;
    await rig.sql.notify('halvix_revision', '');
    await rig.until(
      'the relay answers through the proxy',
      async () => (await rig.hop('link', 'HLM-LAN-F1'))?.endpoint === `127.0.0.1:${port}`,
    );
    await rig.until('it answers', async () => (await rig.hop('device', 'HLM-F1'))?.state === 'answering');
  });
  afterAll(() => proxy.close());

  /** Waits until events are stored whose confirm has not reached the relay: the worst moment to die. */
  async function betweenCommitAndConfirm(): Promise<void> {
    proxy.swallowing = true;
    const before = proxy.swallowed;
    await rig.until('a confirm is swallowed', async () => proxy.swallowed > before);
  }

  test('events through kill -9 of the engine, lost confirms and cut connections, 200 a second', async () => {
    await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 200 });
    const restart = async (): Promise<void> => {
      await rig.system.kill('engine');
      proxy.swallowing = false;
      await pause(200);
      await rig.startEngine();
    };
    for (const runMs of [1700, 900]) {
      await pause(runMs);
      await restart();
    }
    for (let round = 0; round < 3; round++) {
      await pause(1500);
      await betweenCommitAndConfirm();
      await restart();
    }
    await pause(1500);
    await betweenCommitAndConfirm();
    proxy.cut();
    proxy.swallowing = false;
    await pause(1500);
    // Lost on a connection that stands: the relay repeats them with the next poll.
    await betweenCommitAndConfirm();
    proxy.swallowing = false;
    await pause(3000);
    await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 0 });
    await pause(500);
    const { made, lost, repeated } = await countEvents(rig);
    process.stdout.write(
      `exactly once: ${made} events made, ${lost.length} lost, ${repeated.length} stored twice, ${proxy.swallowed} confirms lost\n`,
    );
    expect(made).toBeGreaterThan(2000);
    expect(proxy.swallowed).toBeGreaterThanOrEqual(5);
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
    // In pieces of its own: what comes before the centre is known counts once, too.
    await pause(300);
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

  test('a new connection of the same centre takes over at once; one with another address does not', async () => {
    const first = await raw(rig.ports.ambry);
    first.socket.write(LINK_STATUS(101));
    await rig.until('the first one is answered', async () => first.received().length === 10);
    const stranger = await raw(rig.ports.ambry);
    stranger.socket.write(LINK_STATUS(77));
    await pause(300);
    expect(first.closed()).toBe(false);
    const second = await raw(rig.ports.ambry);
    second.socket.write(LINK_STATUS(101));
    await rig.until('the second one is answered', async () => second.received().length === 10);
    await rig.until('the first one is closed', async () => first.closed());
    expect(stranger.received()).toHaveLength(0);
    second.socket.destroy();
    stranger.socket.destroy();
  });

  test('whoever comes from a network that is not allowed is not let in, and a centre without leave operates nothing', async () => {
    const change = async (of: Record<string, unknown>): Promise<void> => {
      const [{ document }] = await rig.sql`select document from revision order by id desc limit 1`;
      Object.assign(
        document.outbounds.find(({ code }: { code: string }) => code === 'AMB'),
        of,
      );
      await rig.sql`insert into revision (document, author, note, applied) values (${rig.sql.json(document)}, 'test', 'access', now())`;
      await rig.sql.notify('halvix_revision', '');
      await rig.running();
    };
    await change({ allowFrom: ['10.9.0.0/16'] });
    const outsider = await raw(rig.ports.ambry);
    outsider.socket.write(LINK_STATUS(101));
    await rig.until('it is closed', async () => outsider.closed());
    expect(outsider.received()).toHaveLength(0);
    await rig.until(
      'shown',
      async () =>
        (await rig.hop('outbound', 'AMB'))?.lastProblem?.words.includes('its network is not allowed') === true,
    );
    await change({ allowFrom: ['127.0.0.0/8'], controls: false });
    await rig.bench('PUT', '/centres/AMB/power', { on: true });
    await rig.until(
      'the centre gets through',
      async () => (await rig.bench<{ state: string }>('GET', '/centres/AMB')).state === 'answering',
    );
    const before = (await rig.sql`select count(*)::int as n from command`)[0].n as number;
    const steps = await rig.bench<{ step: string; status?: number }[]>('POST', '/centres/AMB/controls', {
      ...{ index: 0, operation: 'trip', mode: 'direct' },
    });
    // 9: not authorized (IEEE 1815, table 11-7).
    expect(steps.at(-1)).toMatchObject({ step: 'refused', status: 9 });
    expect((await rig.sql`select count(*)::int as n from command`)[0].n).toBe(before);
    await rig.bench('PUT', '/centres/AMB/power', { on: false });
    await change({ controls: true });
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
