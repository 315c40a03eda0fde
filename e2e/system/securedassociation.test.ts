import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type ConnectionOptions } from 'node:tls';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { Server, ServerEffect, ServerUpdate } from '@halvix/core/protocols';
import { IecServer, serverSettings } from '@halvix/core/protocols/iec61850';
import { serverSettings as taseSettings, TaseServer } from '@halvix/core/protocols/tase2';
import { CallServer, clock, Driver, type Call, type TlsFiles } from '@halvix/wire';
import { serveTls } from '../../wire/tls.ts';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { offered } from '../../core/protocols/iec61850/trials/both.ts';
import { offered as agreed } from '../../core/protocols/tase2/trials/both.ts';
import { agreementClient, modelClient, type Latest } from '../rig/latest.ts';

/* Models and agreements over TLS with certificates of both ends (IEC 62351-3: mutual authentication). */
let folder: string;
const openssl = (...args: string[]): void => void execFileSync('openssl', args, { stdio: 'pipe', cwd: folder });
const KEY = ['-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:P-256', '-nodes'];

function authority(name: string): void {
  openssl(
    'req',
    '-x509',
    ...KEY,
    '-days',
    '30',
    '-subj',
    `/CN=${name}`,
    '-keyout',
    `${name}.key`,
    '-out',
    `${name}.pem`,
  );
}
function certificate(name: string, by: string, key = KEY): void {
  openssl(
    'req',
    ...key,
    '-subj',
    `/CN=${name}`,
    '-addext',
    `subjectAltName=DNS:${name}`,
    '-keyout',
    `${name}.key`,
    '-out',
    `${name}.csr`,
  );
  openssl(
    'x509',
    '-req',
    '-in',
    `${name}.csr`,
    '-CA',
    `${by}.pem`,
    '-CAkey',
    `${by}.key`,
    '-CAcreateserial',
    '-copy_extensions',
    'copy',
    '-days',
    '30',
    '-out',
    `${name}.pem`,
  );
}
const files = (name: string, by: string, serverName: string): TlsFiles => ({
  ...{
    authorityFile: `${by}.pem`,
    certificateFile: `${name}.pem`,
    keyFile: `${name}.key`,
    revocationFile: '',
    serverName,
  },
});

beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'halvix-tls-'));
  process.env.HALVIX_TLS_FOLDER = folder;
  authority('ours');
  authority('others');
  certificate('gateway', 'ours');
  certificate('client', 'ours');
  certificate('rsagateway', 'ours', ['-newkey', 'rsa:2048', '-nodes']);
  certificate('stranger', 'others');
});
afterAll(() => {
  delete process.env.HALVIX_TLS_FOLDER;
  rmSync(folder, { recursive: true });
});

interface Case {
  server: () => Server<never>;
  /** What stands for one analog value, as its client calls it. */
  value: string;
  update: (value: number) => ServerUpdate<never>;
  client: (port: number, value: string, tls?: TlsFiles) => Latest<unknown>;
}
const change = <At>(at: At, value: number): ServerUpdate<never> =>
  ({ kind: 'analog', at, value, quality: 0, time: clock.now() }) as ServerUpdate<never>;
const MODEL = offered('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV');
const AGREED = agreed('analog', 'TIE_MW', 'RealQTimeTag');
const CASES: Record<string, Case> = {
  model: {
    server: () => new IecServer(serverSettings.parse({}), [MODEL], clock.now()) as never,
    value: 'HLM/GGIO1.AnIn1.mag.f[MX]',
    update: (value) => change(MODEL.at, value),
    client: (port, value, tls) => modelClient(port, [['analog', value]], {}, tls),
  },
  agreement: {
    server: () => new TaseServer(taseSettings.parse({}), [AGREED], clock.now()) as never,
    value: 'TIE_MW',
    update: (value) => change(AGREED.at, value),
    client: (port, value, tls) => agreementClient(port, 'HALVIX', [['analog', value]], tls),
  },
};

test.each(Object.entries(CASES))(
  'a client of our authority is associated and has reports of a %s; nobody else gets that far',
  async (_name, { server, value, update, client }) => {
    const [port] = await freePorts(1);
    const calls = new Map<Call, number>();
    const refusals: string[] = [];
    const callOf = (peer: number | undefined): Call | undefined =>
      [...calls].find(([, number]) => number === peer)?.[0];
    const driver = new Driver(server(), (effect: ServerEffect) => {
      if (effect.type === 'send') callOf(effect.peer)?.send(effect.octets);
      if (effect.type === 'hangUp') callOf(effect.peer)?.end();
    });
    let peers = 0;
    const listener = new CallServer(
      { host: '127.0.0.1', port, tls: files('gateway', 'ours', '') },
      {
        came: (call) => {
          calls.set(call, ++peers);
          driver.command({ type: 'came', peer: peers, from: call.names.join() });
        },
        data: (call, octets) => driver.command({ type: 'octets', peer: calls.get(call) ?? 0, octets }),
        ended: (call) => {
          driver.command({ type: 'went', peer: calls.get(call) ?? 0 });
          calls.delete(call);
        },
        changed: () => {},
        refused: (words) => void refusals.push(words),
      },
    );
    listener.open();
    const known = client(port, value, files('client', 'ours', 'gateway'));
    const stranger = client(port, value, files('stranger', 'others', 'gateway'));
    const plain = client(port, value);
    const WAIT = { timeout: 10_000 };
    // Its reports run once the present value has come.
    await expect.poll(() => known.latest.has(value), WAIT).toBe(true);
    // Reports are taken into use meanwhile: what changes before that is told as a present value.
    let made = 41.5;
    const changed = (): boolean | undefined => {
      driver.command({ type: 'update', updates: [update(++made)] });
      return known.latest.get(value)?.event;
    };
    await expect.poll(changed, WAIT).toBe(true);
    await expect.poll(() => refusals.length, WAIT).toBeGreaterThan(1);
    expect([stranger.state, plain.state]).toEqual(['unknown', 'unknown']);
    expect([...calls.keys()].map(({ names }) => names[0])).toEqual(['client']);
    for (const one of [known, stranger, plain]) one.close();
    driver.close();
    await listener.close();
  },
);

/** Of TLS 1.2, as the profile for MMS names them (IEC 62351-3 and -4, from memory), by their names in OpenSSL. */
test.each([
  ['TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256', 'ECDHE-RSA-AES128-GCM-SHA256'],
  ['TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384', 'ECDHE-RSA-AES256-GCM-SHA384'],
  ['TLS_DHE_RSA_WITH_AES_128_GCM_SHA256', 'DHE-RSA-AES128-GCM-SHA256'],
  ['TLS_DHE_RSA_WITH_AES_256_GCM_SHA384', 'DHE-RSA-AES256-GCM-SHA384'],
  ['TLS_RSA_WITH_AES_128_CBC_SHA256', 'AES128-SHA256'],
])('a peer that has no other suite than %s gets through to us', async (_name, cipher) => {
  expect(await offering({ ciphers: cipher, maxVersion: 'TLSv1.2' })).toBe(cipher);
});

test('what is older, or hides nothing, does not', async () => {
  expect(await offering({ maxVersion: 'TLSv1.1', minVersion: 'TLSv1', ciphers: 'DEFAULT@SECLEVEL=0' })).toBeNull();
  expect(await offering({ ciphers: 'NULL-SHA256@SECLEVEL=0', maxVersion: 'TLSv1.2' })).toBeNull();
  expect(await offering({ ciphers: 'ADH-AES128-GCM-SHA256@SECLEVEL=0', maxVersion: 'TLSv1.2' })).toBeNull();
});

/** A peer with a certificate of ours that offers no more than this; the suite that is agreed on, null: none is. */
async function offering(options: ConnectionOptions): Promise<string | null> {
  const read = (name: string): Buffer => readFileSync(join(folder, name));
  const server = serveTls(files('rsagateway', 'ours', ''), (socket) => socket.end());
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const { port } = server.address() as AddressInfo;
  try {
    return await new Promise<string | null>((resolve) => {
      const own = { ca: read('ours.pem'), cert: read('client.pem'), key: read('client.key'), servername: 'rsagateway' };
      const socket = connect({ host: '127.0.0.1', port, ...own, ...options });
      socket.on('secureConnect', () => {
        resolve(socket.getCipher().name);
        socket.destroy();
      });
      socket.on('error', () => resolve(null));
    });
  } finally {
    await new Promise((resolve) => server.close(resolve));
  }
}
