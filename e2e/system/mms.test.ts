import { execFile } from 'node:child_process';
import { mkdtempSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { expect, test } from 'vitest';
import { Pair } from '../../core/protocols/mms/trials/pair.ts';
import { OTHERS, REQUESTS, RESPONSES } from '../../core/protocols/mms/trials/samples.ts';
import { SERVICES, type ServiceName } from '../../core/protocols/mms/wire/services.ts';
import { streamOf } from '../rig/capture.ts';

const run = promisify(execFile);

test('a dissector reads every message of both ends, and nothing is wrong with any', async () => {
  const pair = new Pair({ password: 'open sesame', tpduSize: 8192 }).start();
  for (const request of REQUESTS) pair.send('calling', request);
  for (const message of [...RESPONSES, ...OTHERS]) pair.send('called', message);
  pair.calling.conclude(pair.now);
  pair.pump();
  const file = join(mkdtempSync(join(tmpdir(), 'halvix-')), 'mms.pcap');
  writeFileSync(file, streamOf(pair.sent, 102));
  const fields = async (filter: string, ...names: string[]): Promise<string[][]> => {
    const args = ['-r', file, '-Y', filter, '-T', 'fields', ...names.flatMap((name) => ['-e', name])];
    const { stdout } = await run('tshark', args, { maxBuffer: 1 << 26 });
    return stdout
      .split('\n')
      .slice(0, -1)
      .map((line) => line.split('\t'));
  };
  expect(
    await fields('_ws.malformed || _ws.expert.severity >= 0x600000', 'frame.number', '_ws.expert.message'),
  ).toEqual([]);
  // Each confirmed request and response, by its number and its service.
  const requests = await fields('mms.confirmed_RequestPDU_element', 'mms.invokeID', 'mms.confirmedServiceRequest');
  const sent = ({ invoke, service }: { invoke: number; service: ServiceName }): [number, number] => [
    invoke,
    SERVICES[service].tag,
  ];
  expect(requests.map((one) => one.map(Number))).toEqual(REQUESTS.map(sent));
  const responses = await fields('mms.confirmed_ResponsePDU_element', 'mms.invokeID', 'mms.confirmedServiceResponse');
  expect(responses.map((one) => one.map(Number))).toEqual(RESPONSES.map(sent));
  expect(await fields('mms.initiate_RequestPDU_element', 'mms.localDetailCalling')).toEqual([['65000']]);
});
