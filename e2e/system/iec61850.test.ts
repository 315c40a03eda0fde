import { execFile } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { mkdtempSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { iecAt } from '@halvix/core/protocols/iec61850';
import { mappingTo } from '@halvix/core/mapping';
import { demoConfiguration } from '../../bench/scenario/configuration.ts';
import { Both, listed, offered } from '../../core/protocols/iec61850/trials/both.ts';
import { SERVICES } from '../../core/protocols/mms/wire/services.ts';
import { messagesOf } from '../../core/protocols/mms/trials/messages.ts';
import { streamOf } from '../rig/capture.ts';
import { Rig } from '../rig/rig.ts';

/* A bay controller, a plant controller and a centre that looks at our model, through the whole system. */
const run = promisify(execFile);

describe('what goes over the wire', () => {
  test('a dissector reads whole sessions of client and server, and agrees on each message', async () => {
    const pair = new Both(
      [
        listed(1, 'binary', 'HLM/GGIO1.Ind1.stVal[ST]'),
        listed(2, 'analog', 'HLM/GGIO1.AnIn1.mag.f[MX]'),
        listed(3, 'output', 'HLM/GGIO1.SPCSO1[CO]'),
      ],
      [
        offered('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS'),
        offered('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV'),
        offered('output', 'HLM/GGIO1.SPCSO1[CO]', 'SPC'),
        ...Array.from({ length: 300 }, (_, n) => offered('counter', `HLM/GGIO2.CntRs${n + 1}[ST]`, 'BCR')),
      ],
      { client: { password: 'weir', alsoPollMs: 1000 }, server: { password: 'weir' } },
    ).start();
    pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', 41.5);
    pair.run(500);
    pair.control('HLM/GGIO1.SPCSO1[CO]', 'output', { operation: 'close' });
    pair.onControl = ({ token }) => ({
      ...{ type: 'controlResult', token, outcomes: [{ result: 'blocked', status: null, protocol: null }] },
    });
    pair.control('HLM/GGIO1.SPCSO1[CO]', 'output', { operation: 'trip' });
    expect(pair.steps().at(-1)).toContain('blocked by mode');
    pair.command({ type: 'survey', id: 's' });
    pair.run(2000);
    pair.command({ type: 'order', id: 'o', order: { what: 'identify' } });
    pair.run(12_000);
    const pieces = pair.sent.map(({ octets, fromClient }) => ({ octets, fromCaller: fromClient }));
    const file = join(mkdtempSync(join(tmpdir(), 'halvix-')), 'iec61850.pcap');
    writeFileSync(file, streamOf(pieces, 102));
    const fields = async (filter: string, ...names: string[]): Promise<string[][]> => {
      const args = ['-r', file, '-Y', filter, '-T', 'fields', ...names.flatMap((name) => ['-e', name])];
      const { stdout } = await run('tshark', args, { maxBuffer: 1 << 28 });
      return stdout
        .split('\n')
        .slice(0, -1)
        .map((line) => line.split('\t'));
    };
    const wrong = '_ws.malformed || _ws.expert.severity >= 0x600000';
    expect(await fields(wrong, 'frame.number', '_ws.expert.message')).toEqual([]);
    const { requests, responses, reports } = messagesOf(pieces);
    expect(requests.length).toBeGreaterThan(30);
    expect(reports.length).toBeGreaterThan(3);
    // One packet may bring several messages: their fields stand beside each other.
    const flat = async (filter: string, name: string): Promise<number[]> =>
      (await fields(filter, name)).flatMap(([text]) => text.split(',').map(Number));
    const invokes = await flat('mms.confirmed_RequestPDU_element', 'mms.invokeID');
    expect(invokes).toEqual(requests.map(({ invoke }) => invoke));
    const services = await flat('mms.confirmed_RequestPDU_element', 'mms.confirmedServiceRequest');
    expect(services).toEqual(requests.map(({ service }) => SERVICES[service].tag));
    const answers = await flat('mms.confirmed_ResponsePDU_element', 'mms.confirmedServiceResponse');
    expect(answers).toEqual(responses.map(({ service }) => SERVICES[service].tag));
    const values = await flat('mms.unconfirmed_PDU_element', 'mms.listOfAccessResult');
    expect(values).toEqual(reports);
  });
});

describe('the system', () => {
  let rig: Rig;
  beforeAll(async () => {
    rig = await (await Rig.make('iec61850', inject('postgres'), { models: true })).start();
    await answering('HLM-B1');
    await answering('ORL-PC');
    await rig.until(
      'the centre has the model',
      async () => (await seen('HLM/GGIO1.Ind1.stVal[ST]')) !== undefined,
      30_000,
    );
  });
  afterAll(() => rig.stop());

  const answering = (device: string): Promise<number> =>
    rig.until(`${device} answers`, async () => (await rig.hop('device', device))?.state === 'answering', 30_000);
  interface Seen {
    address: string;
    value: number;
    quality: number;
    event: boolean;
  }
  const seen = async (address: string): Promise<Seen | undefined> =>
    (await rig.bench<Seen[]>('GET', '/centres/QSM/points')).find((one) => one.address === address);
  const latest = async (device: string, address: string): Promise<Record<string, unknown> | undefined> => {
    const [row] = await rig.sql`
      select raw, value, quality from latest join point_identity on id = point_id
      where device = ${device} and address = ${address}`;
    return row;
  };
  async function order(device: string, address: string, operation: string, counts: number | null) {
    const [{ id: point }] = await rig.sql`
      select id from point_identity where device = ${device} and address = ${address}`;
    const id = randomUUID();
    await rig.sql`
      insert into command (id, point_id, device, address, operation, counts, mode, on_ms, off_ms, count, requested_by,
        state, requested, expires)
      values (${id}, ${point}, ${device}, ${address}, ${operation}, ${counts}, 'selectOperate', 0, 0, 1, 'test',
        'requested', ${new Date()}, ${new Date(Date.now() + 10_000)})`;
    await rig.sql.notify('halvix_command', id);
    const row = async (): Promise<Record<string, unknown>> =>
      (await rig.sql`select * from command where id = ${id}`)[0];
    await rig.until('the command has ended', async () => (await row()).ended !== null, 20_000);
    return row();
  }
  const operations = async (device: string): Promise<number> =>
    (await rig.bench<{ operations: number }>('GET', `/devices/${device}`)).operations;

  test('every point of both devices is good, and none is polled', async () => {
    for (const [device, count] of [
      ['HLM-B1', 22],
      ['ORL-PC', 9],
    ] as const)
      await rig.until(`${device} is whole`, async () => {
        const [row] = await rig.sql`
          select count(*)::int as count from latest join point_identity on id = point_id
          where device = ${device} and quality = 0`;
        return row.count === count;
      });
    expect((await rig.hop('device', 'HLM-B1')).counters).toMatchObject({ polledValues: 0, gaps: 0, unusable: 0 });
  });

  test('a relay of another protocol is seen in our model within two seconds', async () => {
    const before = (await seen('HLM/GGIO1.Ind13.stVal[ST]'))?.value;
    await rig.force('binary', 12, before === 1 ? 0 : 1);
    const took = await rig.until(
      'the centre has it',
      async () => (await seen('HLM/GGIO1.Ind13.stVal[ST]'))?.value !== before,
    );
    expect(took).toBeLessThan(15_000);
    await rig.release('binary', 12);
    // A register's value is there as well.
    await rig.until('it flows', async () => ((await seen('FNK/GGIO1.AnIn1.mag.f[MX]'))?.value ?? 0) > 0);
  });

  test('a breaker is operated by select with value, and its end is told', async () => {
    const before = await operations('HLM-B1');
    expect(await order('HLM-B1', 'HLMB1/CSWI1.Pos[CO]', 'trip', null)).toMatchObject({ state: 'confirmed' });
    await rig.until('it is open', async () => (await latest('HLM-B1', 'HLMB1/XCBR1.Pos.stVal[ST]'))?.raw === 1);
    expect(await order('HLM-B1', 'HLMB1/CSWI1.Pos[CO]', 'close', null)).toMatchObject({ state: 'confirmed' });
    expect(await operations('HLM-B1')).toBe(before + 2);
    await rig.bench('PUT', '/devices/HLM-B1/points/binary/0', { value: 1 });
    await rig.until('it is local', async () => (await latest('HLM-B1', 'HLMB1/XCBR1.Loc.stVal[ST]'))?.raw === 1);
    const refused = await order('HLM-B1', 'HLMB1/CSWI1.Pos[CO]', 'trip', null);
    expect(refused).toMatchObject({
      state: 'refused',
      words: expect.stringContaining('blocked by switching hierarchy'),
    });
    await rig.bench('DELETE', '/devices/HLM-B1/points/binary/0');
    expect(await operations('HLM-B1')).toBe(before + 2);
  });

  test('a setpoint', async () => {
    expect(await order('ORL-PC', 'ORLPC/GGIO1.AnOut1[CO]', 'set', 4.5)).toMatchObject({ state: 'confirmed' });
    await rig.until('it shows', async () => (await latest('ORL-PC', 'ORLPC/GGIO1.AnOut1[CO]'))?.value === 4.5);
    expect(await order('ORL-PC', 'ORLPC/GGIO1.AnOut1[CO]', 'set', 40)).toMatchObject({ state: 'refused' });
  });

  test('the centre operates the relay through us: its select goes through to the relay’s, and its refusal comes back', async () => {
    const control = (operation: string): Promise<{ step: string; words?: string }[]> =>
      rig.bench('POST', '/centres/QSM/controls', { reference: 'HLM/GGIO1.SPCSO1[CO]', operation });
    const before = await operations('HLM-F1');
    expect((await control('trip')).map(({ step }) => step)).toEqual([
      'selectSent',
      'selected',
      'operateSent',
      'operated',
    ]);
    expect(await operations('HLM-F1')).toBe(before + 1);
    await rig.force('binary', 6, 0);
    const refused = await control('close');
    expect(refused.at(-1)).toMatchObject({ step: 'refused' });
    expect(await operations('HLM-F1')).toBe(before + 1);
    await rig.release('binary', 6);
  });

  test('a DNP3 centre’s select and operate go through to the bay’s, by its control model, and its causes come back', async () => {
    const configuration = demoConfiguration({ ...rig.ports });
    configuration.outbounds
      .find(({ code }) => code === 'QST')
      ?.mappings.push(
        mappingTo(
          { device: 'HLM-B1', kind: 'output', at: iecAt('HLMB1/CSWI1.Pos[CO]') },
          ...(['dnp3', 'output', 60, 'raw'] as const),
        ),
      );
    await rig.apply(configuration);
    const control = (body: object): Promise<{ step: string; status?: number }[]> =>
      rig.bench('POST', '/centres/QST/controls', { index: 60, ...body });
    await rig.until(
      'the centre may operate it',
      async () => (await control({ operation: 'close' })).at(-1)?.step === 'operated',
    );
    const before = await operations('HLM-B1');
    const steps = await control({ operation: 'trip' });
    expect(steps.map(({ step }) => step)).toEqual(['selectSent', 'selected', 'operateSent', 'operated']);
    expect(await operations('HLM-B1')).toBe(before + 1);
    const rows = await rig.sql`
      select mode from command where outbound = 'QST' and device = 'HLM-B1' order by requested desc limit 2`;
    expect(rows.map(({ mode }) => mode as string)).toEqual(['selectOperate', 'selectOnly']);
    // A select alone is let go of, and its operate comes too late there: refused, without anything being done.
    await rig.bench('PUT', '/devices/HLM-B1/points/binary/0', { value: 1 });
    await rig.until('it is local', async () => (await latest('HLM-B1', 'HLMB1/XCBR1.Loc.stVal[ST]'))?.raw === 1);
    // Blocked by switching hierarchy there is “local” in DNP3 (IEEE 1815, table 11-6: 7).
    expect((await control({ operation: 'close' })).at(-1)).toMatchObject({ step: 'refused', status: 7 });
    expect(await operations('HLM-B1')).toBe(before + 1);
    await rig.bench('DELETE', '/devices/HLM-B1/points/binary/0');
  });

  test('a link that is cut and an engine that is killed lose nothing that the buffer held, and bring nothing twice', async () => {
    const [{ id }] = await rig.sql`
      select id from point_identity where device = 'HLM-B1' and address = 'HLMB1/XCBR1.OpCnt.stVal[ST]'`;
    const began = Date.now();
    const values: number[] = [];
    const change = async (count: number): Promise<void> => {
      for (let n = 0; n < count; n++) {
        values.push(100_000 + values.length);
        await rig.bench('PUT', '/devices/HLM-B1/points/analog/0', { value: values.at(-1) });
        await new Promise((resolve) => setTimeout(resolve, 15));
      }
    };
    await change(30);
    await rig.bench('POST', '/links/HLM-B1/cut');
    await change(60);
    rig.system.processes.get('engine')?.child.kill('SIGKILL');
    await change(60);
    await rig.startEngine();
    await change(30);
    await answering('HLM-B1');
    await change(10);
    const stored = async (): Promise<number[]> =>
      (
        await rig.sql`
        select raw from reading where point_id = ${id} and time > ${new Date(began - 1000)} and cause = 1 and raw >= 100000
        order by raw`
      ).map(({ raw }) => Number(raw));
    await rig.until('all are stored', async () => new Set(await stored()).size >= values.length, 30_000);
    expect(await stored()).toEqual(values);
    await rig.bench('DELETE', '/devices/HLM-B1/points/analog/0');
  });

  test('a centre that is away while our engine is killed gets what the buffer held, once and in order', async () => {
    const reference = 'HLM/GGIO1.Ind13.stVal[ST]';
    const events = async (): Promise<Seen[]> =>
      (await rig.bench<Seen[]>('GET', '/centres/QSM/events')).filter(({ address }) => address === reference);
    const stored = async (): Promise<number> =>
      Number(
        (
          await rig.sql`
          select count(*)::int as n from reading join point_identity on id = point_id
          where device = 'HLM-F1' and address = 'BI 12' and cause = 1`
        )[0].n,
      );
    await rig.bench('PUT', '/centres/QSM/power', { on: false });
    const [had, known] = [(await events()).length, await stored()];
    let made = 0;
    const change = async (count: number): Promise<void> => {
      for (let n = 0; n < count; n++) {
        await rig.force('binary', 12, ++made % 2);
        await new Promise((resolve) => setTimeout(resolve, 60));
      }
    };
    const before = (await rig.relayPoint('binary', 12)).value;
    if (before === 1) await change(2);
    else await change(1);
    await change(20);
    await rig.until('what was made is stored', async () => (await stored()) - known >= 15);
    await new Promise((resolve) => setTimeout(resolve, 300));
    rig.system.processes.get('engine')?.child.kill('SIGKILL');
    await change(10);
    await rig.startEngine();
    await rig.until('all are stored', async () => (await stored()) - known >= made - 1, 30_000);
    await rig.bench('PUT', '/centres/QSM/power', { on: true });
    const total = await stored();
    await rig.until('the centre has them', async () => (await events()).length - had >= total - known, 30_000);
    const values = (await events()).slice(had).map(({ value }) => value);
    // The change before may have waited too. On and off by turns: none is missing, and none came twice.
    expect([total - known, total - known + 1]).toContain(values.length);
    expect(values.every((value, at) => at === 0 || value !== values[at - 1])).toBe(true);
    await rig.release('binary', 12);
  });
});
