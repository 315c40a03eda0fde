import { execFile, spawn } from 'node:child_process';
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { Rig } from '../rig/rig.ts';

let rig: Rig;
const run = promisify(execFile);
const asAdmin = (command: string, args: string[]): [string, string[]] =>
  process.getuid?.() === 0 ? [command, args] : ['sudo', [command, ...args]];
beforeAll(async () => {
  rig = await Rig.make('dissector', inject('postgres'));
});
afterAll(() => rig.stop());

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

test("an independent dissector finds nothing wrong with a whole run's traffic, in both roles", async () => {
  const file = join(mkdtempSync(join(tmpdir(), 'halvix-')), 'run.pcapng');
  const { relay, quillstone } = rig.ports;
  const [command, args] = asAdmin('tshark', [
    '-i',
    'lo',
    '-f',
    `tcp port ${relay} or tcp port ${quillstone}`,
    '-w',
    file,
    '-q',
  ]);
  const capture = spawn(command, args, { stdio: ['ignore', 'ignore', 'pipe'] });
  let said = '';
  capture.stderr.on('data', (text: Buffer) => (said += text.toString()));
  await rig.until('the capture has begun', async () => said.includes('Capturing on'));
  await pause(500);

  await rig.start();
  await rig.until(
    'the centre has all',
    async () => (await rig.bench<unknown[]>('GET', '/centres/QST/points')).length === 80,
  );
  await rig.force('analog', 7, -2_000_000_000);
  await rig.force('binary', 3, 1);
  await rig.force('counter', 1, 77);
  await rig.bench('POST', '/centres/QST/controls', { index: 0, operation: 'trip' });
  await rig.force('binary', 6, 0);
  await rig.bench('POST', '/centres/QST/controls', { index: 0, operation: 'close', mode: 'direct' });
  await rig.survey('HLM-F1');
  await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 300 });
  await pause(3000);
  await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 0 });
  await rig.until(
    'the forced value is at the centre',
    async () => (await rig.centrePoint('QST', 'analog', 7))?.value === -2_000_000_000,
  );
  await pause(6000);
  capture.kill('SIGINT');
  await new Promise((resolve) => capture.on('exit', resolve));

  const decode = [
    '-r',
    file,
    '-d',
    `tcp.port==${relay},dnp3`,
    '-d',
    `tcp.port==${quillstone},dnp3`,
    '-o',
    'tcp.desegment_tcp_streams:TRUE',
  ];
  const fields = async (filter: string, ...names: string[]): Promise<string[][]> => {
    const { stdout } = await run(
      ...asAdmin('tshark', [...decode, '-Y', filter, '-T', 'fields', ...names.flatMap((name) => ['-e', name])]),
      { maxBuffer: 1 << 28 },
    );
    return stdout
      .split('\n')
      .filter(Boolean)
      .map((line) => line.split('\t'));
  };
  const frames = await fields('dnp3', 'frame.number');
  const wrong = await fields(
    '_ws.malformed || dnp3.hdr.CRC.incorrect || dnp3.data_chunk.CRC.incorrect || dnp3.unknown_object || dnp3.al.unknown_data_chunk',
    'frame.number',
    '_ws.col.Info',
  );
  const functions = new Set(
    (await fields('dnp3.al.func', 'dnp3.al.func')).flatMap(([all]) => all.split(',')).map(Number),
  );
  const objects = new Set((await fields('dnp3.al.obj', 'dnp3.al.obj')).flatMap(([all]) => all.split(',')).map(Number));
  process.stdout.write(
    `dissector: ${frames.length} packets with DNP3, ${wrong.length} with something wrong, ${objects.size} object types\n`,
  );
  expect(frames.length).toBeGreaterThan(50);
  expect(wrong).toEqual([]);
  // Confirm, read, write, select, operate, direct operate, disable unsolicited, delay measurement, response.
  expect([...functions].sort((a, b) => a - b)).toEqual([0, 1, 2, 3, 4, 5, 21, 23, 129]);
  const expected = [
    // What the relay says of itself.
    ...[242, 245, 247, 248, 250, 252, 254].map((variation) => [0, variation]),
    [1, 2],
    [2, 2],
    [10, 2],
    [12, 1],
    [20, 1],
    [22, 5],
    [30, 1],
    [32, 3],
    [50, 1],
    [52, 2],
    [60, 1],
    [60, 2],
    [60, 3],
    [60, 4],
    [80, 1],
  ];
  expect([...objects].sort((a, b) => a - b)).toEqual(expected.map(([group, variation]) => group * 256 + variation));

  // The dissector's own reading of values and statuses: the forced analog, and the relay's "local" refusal.
  const { stdout } = await run(...asAdmin('tshark', [...decode, '-Y', 'dnp3', '-O', 'dnp3', '-V']), {
    maxBuffer: 1 << 28,
  });
  expect(stdout).toMatch(/Value: -2000000000/);
  expect(stdout).toMatch(/Control Status: .*\(?0x07\)?|local/i);
});
