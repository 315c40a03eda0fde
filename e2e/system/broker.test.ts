import { configurationSchema } from '@halvix/core/config';
import { execFileSync, spawn } from 'node:child_process';
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { Certificates } from '../../engine/testing/wires.ts';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { Broker } from '../rig/broker.ts';
import { Rig } from '../rig/rig.ts';

/*
 * MQTT with a broker of other people: mosquitto (Debian), its own subscriber, with a password and with certificates, in both
 * versions; a dissector (tshark) reads what went over the wire.
 */
let rig: Rig;
let broker: Broker;
const certificates = new Certificates(['broker', 'halvix']);
let tlsPort = 0;

const userFile = (folder: string): string[] => {
  const file = join(folder, 'users');
  execFileSync('mosquitto_passwd', ['-b', '-c', file, 'halvix', 'sluice gate 12']);
  execFileSync('mosquitto_passwd', ['-b', file, 'reader', 'reads all of it']);
  execFileSync('chmod', ['644', file]);
  return [`password_file ${file}`, 'allow_anonymous false'];
};

type Json = Record<string, unknown>;
const outbound = (code: string, link: string, settings: object): Json => ({
  ...{ code, name: code, centre: `Broker ${code}`, protocol: 'mqtt', link },
  settings: { afterMs: 0, clientId: `halvix-${code.toLowerCase()}`, ...settings },
  mappings: ['AI 7', 'BI 3'].map((point) => ({
    ...{ device: 'HLM-F1', point },
    target: {
      kind: point.startsWith('AI') ? 'analog' : 'binary',
      at: { protocol: 'mqtt', topic: `${code}/HLM-F1`, name: point },
      value: 'engineering',
    },
  })),
});

async function apply(links: Json[], outbounds: Json[]): Promise<void> {
  const [row] = await rig.sql`select document from revision order by id desc limit 1`;
  const base = row.document as { links: Json[]; outbounds: Json[]; devices: Json[] };
  const own = new Set(base.devices.map(({ link }) => link));
  await rig.apply(
    configurationSchema.parse({
      ...{ ...base, outbounds },
      links: [...base.links.filter(({ code }) => own.has(code)), ...links],
    }),
  );
}

const link = (code: string, port: number, more: Json = {}): Json => ({
  ...{ code, name: code, type: 'tcpClient', protocol: 'mqtt', host: '127.0.0.1', port, ...more },
});
const SIGN_IN = { user: 'halvix', password: 'sluice gate 12' };
/** The last value of a point that was heard in a topic. */
const last = (topic: string, name: string): unknown =>
  broker
    .objects((one) => one === topic)
    .filter(({ values }) => name in values)
    .at(-1)?.values[name];
const outboundState = async (
  code: string,
): Promise<{ problem: string | null; lastProblem: { words: string } | null }> =>
  (await rig.hop('outbound', code)) as { problem: string | null; lastProblem: { words: string } | null };

beforeAll(async () => {
  [tlsPort] = await freePorts(1);
  execFileSync('chmod', ['-R', 'a+rX', certificates.folder]);
  broker = await Broker.start(
    (folder) => [
      ...userFile(folder),
      ...[`listener ${tlsPort} 127.0.0.1`, `cafile ${certificates.pem('authority')}`, 'require_certificate true'],
      ...[`certfile ${certificates.pem('broker')}`, `keyfile ${certificates.pem('broker-key')}`],
    ],
    ['-u', 'reader', '-P', 'reads all of it'],
  );
  rig = await Rig.make('broker', inject('postgres'));
  await rig.start({ engine: { HALVIX_TLS_FOLDER: certificates.folder } });
});
afterAll(async () => {
  broker.stop();
  await rig.stop();
  certificates.remove();
});

test('values get to a broker with a password, in both versions, and with certificates; a dissector finds nothing wrong', async () => {
  const file = join(mkdtempSync(join(tmpdir(), 'halvix-')), 'run.pcapng');
  const [tool, ...admin] = process.getuid?.() === 0 ? ['tshark'] : ['sudo', 'tshark'];
  const capture = spawn(tool, [...admin, '-i', 'lo', '-f', `tcp port ${broker.port}`, '-w', file, '-q']);
  let said = '';
  capture.stderr.on('data', (text: Buffer) => (said += String(text)));
  await rig.until('the capture has begun', async () => said.includes('Capturing on'));
  await apply(
    [link('B5', broker.port), link('B4', broker.port), link('BT', tlsPort, { tls: certificates.tls('halvix') })],
    [
      outbound('B5', 'B5', { ...SIGN_IN, willTopic: 'B5/state' }),
      outbound('B4', 'B4', { ...SIGN_IN, version: '3.1.1' }),
      outbound('BT', 'BT', SIGN_IN),
    ],
  );
  await rig.force('analog', 7, 31_415);
  await rig.force('binary', 3, 1);
  for (const code of ['B5', 'B4', 'BT'])
    await rig.until(
      `${code} has them`,
      async () => last(`${code}/HLM-F1`, 'AI 7') === 31.415 && last(`${code}/HLM-F1`, 'BI 3') === true,
    );
  const ids = broker.objects((topic) => topic === 'B5/HLM-F1').map(({ id }) => id);
  expect(ids).toEqual([...ids].sort((a, b) => a - b));
  expect(broker.heard.filter(({ topic }) => topic === 'B5/state').map(({ payload }) => payload)).toEqual(['online']);
  await new Promise((resolve) => setTimeout(resolve, 1000));
  capture.kill('SIGINT');
  await new Promise((resolve) => capture.on('exit', resolve));
  const read = (...more: string[]): string[] =>
    String(execFileSync('tshark', ['-r', file, '-d', `tcp.port==${broker.port},mqtt`, ...more]))
      .split('\n')
      .filter((line) => line !== '');
  expect(read('-Y', 'mqtt && (_ws.malformed || _ws.expert.severity >= warning)')).toEqual([]);
  expect(read('-Y', 'mqtt.msgtype == 1', '-T', 'fields', '-e', 'mqtt.ver', '-e', 'mqtt.clientid').sort()).toEqual(
    expect.arrayContaining(['4\thalvix-b4', '5\thalvix-b5']),
  );
  const topics = read('-Y', 'mqtt.msgtype == 3', '-T', 'fields', '-e', 'mqtt.topic');
  expect(topics.join(' ')).toContain('B4/HLM-F1');
});

test('an engine that is killed is said to be gone by the broker, and what was not delivered comes after it', async () => {
  const state = (): string[] => broker.heard.filter(({ topic }) => topic === 'B5/state').map(({ payload }) => payload);
  await rig.system.kill('engine');
  await rig.until('the broker has said it', async () => state().at(-1) === 'offline');
  await rig.force('analog', 7, 27_500);
  await rig.startEngine({ HALVIX_TLS_FOLDER: certificates.folder });
  for (const code of ['B5', 'B4', 'BT'])
    await rig.until(`${code} has it`, async () => last(`${code}/HLM-F1`, 'AI 7') === 27.5);
  expect(state()).toEqual(['online', 'offline', 'online']);
});

test('what went out is written down, and goes once more: a packet as it was, a span of history as new values', async () => {
  const began = Date.now();
  const has = (): ReturnType<Broker['objects']> => broker.objects((topic) => topic === 'B5/HLM-F1');
  await rig.force('analog', 7, 11_000);
  await rig.until('it is there', async () => last('B5/HLM-F1', 'AI 7') === 11);
  interface Sent {
    packet: string;
    records: number;
    tries: number;
    state: string;
    messages: { to: string; octets: string }[];
  }
  const newest = async (): Promise<Sent> => {
    const [row] = await rig.sql<Sent[]>`select packet::text, records, tries, state, messages from sent_packet
      where outbound = (select id from outbound_identity where code = 'B5') order by packet desc limit 1`;
    return row;
  };
  await rig.until('it is written down', async () => {
    const { state, messages } = (await newest()) ?? {};
    return state === 'delivered' && Buffer.from(messages[0].octets, 'base64').includes('"AI 7":11');
  });
  const packet = await newest();
  expect(packet).toMatchObject({ records: 1, tries: 1, messages: [{ to: 'B5/HLM-F1' }] });
  const ask = (request: object): Promise<unknown> =>
    rig.sql`select pg_notify('halvix_request', ${JSON.stringify({ outbound: 'B5', by: 'ada', ...request })})`;
  const number = Number(packet.packet);
  const twice = (): number => has().filter(({ id }) => id === number).length;
  expect(twice()).toBe(1);
  await ask({ type: 'sendPacket', packet: number });
  await rig.until('it came again', async () => twice() === 2);
  await rig.until('that is written down', async () => (await newest()).tries === 2);

  await rig.force('analog', 7, 12_000);
  await rig.until('a later one is there', async () => last('B5/HLM-F1', 'AI 7') === 12);
  const before = has();
  await ask({ type: 'sendSpan', from: began - 1000, to: Date.now() });
  await rig.until('the span came again', async () => {
    const again = has()
      .slice(before.length)
      .flatMap(({ values }) => values['AI 7'] ?? []);
    return again.join(' ').endsWith('11 12');
  });
  const timeOf = (objects: typeof before, value: number): number | undefined =>
    objects.find(({ values }) => values['AI 7'] === value)?.time;
  for (const value of [11, 12]) expect(timeOf(has().slice(before.length), value)).toBe(timeOf(before, value));
  await rig.until('who wanted it stands in the events', async () => {
    const lines = await rig.sql`select words from journal where subject = 'B5' and words like '%asked by ada%'`;
    return lines.length === 2;
  });
});

test('a wrong password, a certificate of somebody else and a twin are told of in words', async () => {
  await apply(
    [
      link('WRONG', broker.port),
      link('IMPOSTOR', tlsPort, { tls: certificates.tls('impostor') }),
      // Two ways to one broker, which nobody can see from here.
      link('ONE', broker.port),
      link('TWO', broker.port, { host: 'localhost' }),
    ],
    [
      outbound('WRONG', 'WRONG', { ...SIGN_IN, password: 'weir' }),
      outbound('IMPOSTOR', 'IMPOSTOR', SIGN_IN),
      outbound('ONE', 'ONE', { ...SIGN_IN, clientId: 'twin', version: '3.1.1' }),
      outbound('TWO', 'TWO', { ...SIGN_IN, clientId: 'twin' }),
    ],
  );
  const words = async (code: string): Promise<string> => {
    const { problem, lastProblem } = await outboundState(code);
    return `${problem ?? ''} ${lastProblem?.words ?? ''}`;
  };
  await rig.until('the password', async () => (await words('WRONG')).includes('are user and password right?'));
  await rig.until('the certificate', async () => /certificate/.test(await words('IMPOSTOR')));
  for (const code of ['ONE', 'TWO'])
    await rig.until(`${code} is told of its twin`, async () => {
      const lines = await rig.sql`select words from journal where subject = ${code}`;
      return lines.some((line) => /does another client use the client id twin\?/.test(String(line.words)));
    });
});
