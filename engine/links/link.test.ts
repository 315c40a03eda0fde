import { X509Certificate } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { OBJECT_SCHEMAS, type LinkConfig } from '@halvix/core/config';
import {
  dnp3At,
  masterSettings,
  Outstation,
  outstationSettings,
  type OutstationCommand,
  type OutstationEffect,
} from '@halvix/core/protocols/dnp3';
import type { ClientNews } from '@halvix/core/protocols';
import { clientSide } from '@halvix/core/protocols/sessions';
import { octetMs } from '@halvix/core/line';
import { clock, Driver } from '@halvix/wire';
import { createSocket } from 'node:dgram';
import { mkdirSync } from 'node:fs';
import { connect, createServer } from 'node:net';
import { join } from 'node:path';
import { createServer as createTlsServer } from 'node:tls';
import { afterEach, beforeAll, describe, expect, test } from 'vitest';
import { lineTiming, LinkRunner } from './link.ts';
import { Certificates, Closers, freePort, pause, terminals, until } from '../testing/wires.ts';

const closers = new Closers();
afterEach(() => closers.close());

/** An outstation with one analog, on whatever carries its octets. */
class FarEnd {
  readonly driver: Driver<OutstationCommand, OutstationEffect>;
  send: (octets: Uint8Array) => void = () => {};

  constructor(address: number, unsolicited = false) {
    const settings = outstationSettings.parse({ ourAddress: address, theirAddress: 1, unsolicited });
    const point = { kind: 'analog', index: 0, class: 2, staticVariation: 1, eventVariation: 3, deadband: 0 } as const;
    this.driver = new Driver(new Outstation(settings, [point], clock.now()), (effect) => {
      if (effect.type === 'send') this.send(effect.octets);
    });
    this.set(address);
    closers.push(() => this.driver.close());
  }

  set(value: number): void {
    const update = { kind: 'analog' as const, index: 0, value, flags: 1, time: clock.now() };
    this.driver.command({ type: 'update', updates: [update] });
  }
}

const linkOf = (config: Partial<Record<keyof LinkConfig, unknown>>): LinkConfig =>
  OBJECT_SCHEMAS.link.parse({ code: 'L', name: 'link', reconnectFirstMs: 50, reconnectMaxMs: 200, ...config });

/** A link with a master for each address, and what came of each. */
function runLink(config: LinkConfig, addresses: number[], settings: object = {}) {
  const link = new LinkRunner(config, { changed: () => {} });
  const effects = new Map<number, ClientNews[]>();
  for (const address of addresses) {
    const list: ClientNews[] = [];
    effects.set(address, list);
    const polls = { class1PeriodMs: 200, class2PeriodMs: 200, class3PeriodMs: 0, integrityPeriodMs: 0 };
    const parsed = masterSettings.parse({ ourAddress: 1, theirAddress: address, ...polls, ...settings });
    const { calls } = config;
    const client = clientSide('dnp3').make(parsed, '', clock.now(), {
      octetMs: octetMs(lineTiming(config)),
      remembered: null,
      points: [],
      phase: 1,
      ...(calls.lateAfterMs > 0 ? { absenceMs: calls.lateAfterMs } : {}),
    });
    link.attach({
      code: `D${address}`,
      settings: parsed,
      client,
      onEffect: (effect) => {
        list.push(effect);
        if (effect.type === 'readings' && effect.token !== null)
          link.command(`D${address}`, { type: 'committed', token: effect.token });
      },
    });
  }
  link.start();
  closers.push(() => link.stop());
  const values = (address: number): number[] =>
    (effects.get(address) ?? []).flatMap((e) => (e.type === 'readings' ? e.readings.map((r) => r.raw) : []));
  const states = (address: number): string[] =>
    (effects.get(address) ?? []).flatMap((e) => (e.type === 'communication' ? e.state : []));
  return { link, values, states };
}

describe('a line with several devices behind one connection', () => {
  test('each is read, in turn', async () => {
    const port = await freePort();
    const ends = [21, 22, 23].map((address) => new FarEnd(address));
    const server = createServer((socket) => {
      socket.on('error', () => {});
      for (const end of ends) {
        end.send = (octets) => socket.write(octets);
        end.driver.start();
      }
      socket.on('data', (octets) => ends.forEach((end) => end.driver.receive(octets)));
    }).listen(port, '127.0.0.1');
    closers.push(() => server.close());
    const { values, link } = runLink(linkOf({ type: 'tcpClient', port }), [21, 22, 23]);
    for (const address of [21, 22, 23]) await until(`${address} is read`, () => values(address).includes(address));
    ends[1].set(4711);
    await until('its event comes', () => values(22).includes(4711));
    expect(link.laneState().turns).toBeGreaterThan(8);
  });
});

describe('TLS with certificates of both ends', () => {
  let certificates: Certificates;
  beforeAll(() => {
    certificates = new Certificates(['device', 'engine']);
    return () => certificates.remove();
  });
  const tls = (name: string): object => certificates.tls(name);

  async function serve(certificate: string): Promise<number> {
    const port = await freePort();
    const end = new FarEnd(21);
    const server = createTlsServer(
      {
        ca: readFileSync(certificates.pem('authority')),
        cert: readFileSync(certificates.pem(certificate)),
        key: readFileSync(certificates.pem(`${certificate}-key`)),
        requestCert: true,
        rejectUnauthorized: true,
      },
      (socket) => {
        socket.on('error', () => {});
        end.send = (octets) => socket.write(octets);
        end.driver.start();
        socket.on('data', (octets) => end.driver.receive(octets));
        closers.push(() => socket.destroy());
      },
    ).listen(port, '127.0.0.1');
    server.on('tlsClientError', () => {});
    closers.push(() => server.close());
    return port;
  }
  test('a device of our authority is read', async () => {
    const port = await serve('device');
    const { values, link } = runLink(linkOf({ type: 'tcpClient', port, tls: tls('engine') }), [21]);
    await until('it is read', () => values(21).includes(21));
    const { certificateEnds } = link.state();
    expect(certificateEnds).toBeGreaterThan(Date.now());
    expect(certificateEnds).toBe(
      Math.min(
        ...['authority', 'engine'].map((name) =>
          Date.parse(new X509Certificate(readFileSync(certificates.pem(name))).validTo),
        ),
      ),
    );
  });

  test('a device with a certificate of somebody else is refused, and it is said why', async () => {
    const port = await serve('impostor');
    const { link, values } = runLink(linkOf({ type: 'tcpClient', port, tls: tls('engine') }), [21]);
    await until('refused', () => link.state().problem !== null);
    expect(link.state().problem).toBe('its certificate is not from our authority');
    expect(values(21)).toEqual([]);
  });

  test('a file elsewhere, or one that is no file, is not read', async () => {
    const port = await serve('device');
    mkdirSync(join(certificates.folder, 'inner'));
    for (const [keyFile, problem] of [
      ['/etc/hostname', `the file /etc/hostname does not lie in ${certificates.folder}, where TLS files are`],
      ['/dev/zero', `the file /dev/zero does not lie in ${certificates.folder}, where TLS files are`],
      ['inner', 'inner is no file'],
    ]) {
      const { link } = runLink(linkOf({ type: 'tcpClient', port, tls: { ...tls('engine'), keyFile } }), [21]);
      await until('said', () => link.state().problem !== null);
      expect(link.state().problem).toBe(problem);
    }
  });

  test('a file that is not there is named', async () => {
    const port = await serve('device');
    const { link } = runLink(
      linkOf({ type: 'tcpClient', port, tls: { ...tls('engine'), keyFile: '/none.pem' } }),
      [21],
    );
    await until('said', () => link.state().problem !== null);
    expect(link.state().problem).toBe(`the file /none.pem cannot be read (TLS files lie in ${certificates.folder})`);
  });
});

test('UDP', async () => {
  const end = new FarEnd(21);
  const socket = createSocket('udp4');
  let peer: { address: string; port: number } | null = null;
  socket.on('message', (octets, from) => {
    peer = from;
    end.driver.receive(octets);
  });
  end.send = (octets) => peer && socket.send(octets, peer.port, peer.address);
  await new Promise<void>((resolve) => socket.bind(0, '127.0.0.1', resolve));
  closers.push(() => socket.close());
  end.driver.start();
  const { values } = runLink(linkOf({ type: 'udp', port: socket.address().port }), [21]);
  await until('it is read', () => values(21).includes(21));
  end.set(77);
  await until('its event comes', () => values(21).includes(77));
});

test('a serial line, by a pair of pseudo terminals', async () => {
  const { ours, far: port } = await terminals(closers);
  const ends = [11, 12].map((address) => new FarEnd(address));
  for (const end of ends) {
    end.send = (octets) => void port.write(octets);
    end.driver.start();
  }
  port.on('data', (octets: Buffer) => ends.forEach((end) => end.driver.receive(octets)));
  const config = linkOf({ type: 'serial', serialPort: ours, line: { bitRate: 9600, parity: 'even' } });
  const { values } = runLink(config, [11, 12]);
  for (const address of [11, 12]) await until(`${address} is read`, () => values(address).includes(address));
});

describe('devices that call', () => {
  async function call(port: number, end: FarEnd): Promise<() => void> {
    const socket = connect(port, '127.0.0.1');
    socket.on('error', () => {});
    await new Promise((resolve) => socket.on('connect', resolve));
    end.send = (octets) => socket.write(octets);
    socket.on('data', (octets) => end.driver.receive(octets));
    end.driver.start();
    closers.push(() => socket.destroy());
    return () => {
      socket.destroy();
      end.driver.stop();
    };
  }
  const listening = async (port: number): Promise<void> => {
    for (let i = 0; i < 100; i++) {
      const open = await new Promise<boolean>((resolve) => {
        const probe = connect(port, '127.0.0.1', () => {
          probe.destroy();
          resolve(true);
        });
        probe.on('error', () => resolve(false));
      });
      if (open) return;
      await pause(20);
    }
  };

  test('are recognised by their address, rest between calls, and are late only after a while', async () => {
    const port = await freePort();
    const config = linkOf({ type: 'tcpServer', port, calls: { lateAfterMs: 60_000 } });
    const { link, values, states } = runLink(config, [31, 32], {
      unsolicitedClasses: [1, 2, 3],
      disableUnsolicited: false,
    });
    await listening(port);
    const [first, second] = [new FarEnd(31, true), new FarEnd(32, true)];
    const hangUp = await call(port, first);
    await call(port, second);
    await until('both are read', () => values(31).includes(31) && values(32).includes(32));
    hangUp();
    await until('it is seen to have hung up', () => !link.isUp('D31'));
    await pause(700);
    expect(link.isUp('D32')).toBe(true);
    expect(states(31)).toEqual(['answering']);
    first.set(99);
    await call(port, first);
    await until('its backlog comes', () => values(31).includes(99));
    expect(states(31)).toEqual(['answering']);
  });

  test('a gateway calls for all devices of its line: they share a lane, and never speak at once', async () => {
    const port = await freePort();
    const config = linkOf({ type: 'tcpServer', port, line: { bitRate: 19_200 } });
    const { values, states, link } = runLink(config, [51, 52, 53], { responseTimeoutMs: 400, retries: 0 });
    const ends = [51, 52, 53].map((address) => new FarEnd(address));
    let open = 0;
    let collisions = 0;
    const dial = (): (() => void) => {
      const socket = connect(port, '127.0.0.1');
      socket.on('error', () => {});
      for (const end of ends) {
        // What is asked is answered a while later; another request in between would meet the answer on the line.
        end.send = (octets) =>
          setTimeout(() => {
            open--;
            socket.write(octets);
          }, 30);
        end.driver.start();
      }
      socket.on('data', (octets) => {
        // A confirm (function 0) and a question about the link are not answered by data.
        const asks = octets.length > 15 && octets[12] !== 0;
        if (asks && ++open > 1) collisions++;
        for (const end of ends) end.driver.receive(octets);
      });
      return () => socket.destroy();
    };
    const hangUp = dial();
    for (const address of [51, 52, 53]) await until(`${address} is read`, () => values(address).includes(address));
    ends[1].set(4711);
    await until('its event comes', () => values(52).includes(4711));
    expect(collisions).toBe(0);
    expect(Object.keys(link.laneState().devices).sort()).toEqual(['D51', 'D52', 'D53']);
    hangUp();
    await until('its call is over', () => !link.isUp('D51'));
    dial();
    ends[2].set(815);
    await until('it is back', () => values(53).includes(815));
    expect(states(51)).toContain('answering');
    expect(collisions).toBe(0);
  });

  test('one that says nothing is asked who it is', async () => {
    const port = await freePort();
    const { values } = runLink(linkOf({ type: 'tcpServer', port }), [31]);
    await listening(port);
    await call(port, new FarEnd(31));
    await until('it is read', () => values(31).includes(31));
  });

  test('one that stays away is silent once it is late', async () => {
    const port = await freePort();
    const { values, states } = runLink(linkOf({ type: 'tcpServer', port, calls: { lateAfterMs: 600 } }), [31]);
    await listening(port);
    const hangUp = await call(port, new FarEnd(31));
    await until('it is read', () => values(31).includes(31));
    hangUp();
    await until('it is late', () => states(31).at(-1) === 'silent');
  });
});

describe('a link on demand', () => {
  test('calls, reads, hangs up, and calls again for a control', async () => {
    const port = await freePort();
    const end = new FarEnd(41);
    let calls = 0;
    const server = createServer((socket) => {
      calls++;
      socket.on('error', () => {});
      socket.on('close', () => end.driver.stop());
      end.send = (octets) => socket.write(octets);
      end.driver.start();
      socket.on('data', (octets) => end.driver.receive(octets));
    }).listen(port, '127.0.0.1');
    closers.push(() => server.close());
    const config = linkOf({
      type: 'tcpClient',
      port,
      calls: { when: 'onDemand', everyMs: 0, idleMs: 300, lateAfterMs: 60_000 },
    });
    const none = { class1PeriodMs: 0, class2PeriodMs: 0 };
    const { link, values, states } = runLink(config, [41], none);
    await until('it is read', () => values(41).includes(41));
    await until('it hangs up', () => link.state().state === 'resting');
    expect([calls, states(41)]).toEqual([1, ['answering']]);
    end.set(88);
    link.call();
    await until('the new value comes', () => values(41).includes(88));
    await until('it hangs up again', () => link.state().state === 'resting');
    link.command('D41', {
      type: 'control',
      id: 'c',
      kind: 'output',
      at: dnp3At(0),
      operation: 'latchOn',
      counts: null,
      onMs: 0,
      offMs: 0,
      count: 1,
      mode: 'direct',
      expiresAt: clock.now() + 5000,
    });
    await until('it calls for the control', () => calls === 3);
    await until('and hangs up', () => link.state().state === 'resting');
  });
});
