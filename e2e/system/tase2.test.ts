import { execFile } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { mkdtempSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { LOOPBACK_ONLY } from '@halvix/core/config';
import { Quality } from '@halvix/core/point';
import { demoConfiguration } from '../../bench/scenario/configuration.ts';
import { messagesOf } from '../../core/protocols/mms/trials/messages.ts';
import { SERVICES } from '../../core/protocols/mms/wire/services.ts';
import { Both, listed, offered } from '../../core/protocols/tase2/trials/both.ts';
import { Two } from '../../core/protocols/tase2/trials/two.ts';
import { streamOf } from '../rig/capture.ts';
import { BothRoles } from '../rig/bothroles.ts';
import { Rig } from '../rig/rig.ts';

/* A neighbour with whom we have an agreement, as the server of his and as the client of ours. */
const run = promisify(execFile);

type Sent = { octets: Uint8Array; fromCaller: boolean }[];
const sentIn = (pair: Both): Sent => pair.sent.map(({ octets, fromClient }) => ({ octets, fromCaller: fromClient }));

/** Whole sessions: what both ends have said. */
const SESSIONS: Record<string, () => Sent> = {
  'reports, controls, tags and messages': () => {
    const offers = [
      offered('analog', 'TIE_MW', 'RealQTimeTag'),
      offered('doubleBit', 'BREAKER', 'State'),
      offered('counter', 'ENERGY', 'DiscreteExtended'),
      offered('analog', 'HZ', 'RealQTimeTagExtended', { scope: 'centre' }),
      offered('output', 'TRIP', 'Command', { select: true, tag: true }),
      offered('setpoint', 'LIMIT', 'SetpointReal'),
    ];
    const list = [
      listed(1, 'analog', 'HALVIX/TIE_MW'),
      listed(2, 'doubleBit', 'HALVIX/BREAKER'),
      listed(3, 'counter', 'HALVIX/ENERGY'),
      listed(4, 'analog', 'HZ'),
      listed(5, 'analog', 'HALVIX/NONE', 'poll'),
      listed(6, 'output', 'HALVIX/TRIP'),
    ];
    const pair = new Both(list, offers, { client: { integrityMs: 1000 } }).start().run(500);
    pair.update('TIE_MW', 41.5);
    pair.update('BREAKER', 2);
    pair.update('HZ', 49.98);
    pair.run(2500);
    pair.control('HALVIX/TRIP', 'output', { operation: 'trip' });
    pair.control('HALVIX/LIMIT', 'setpoint', { counts: 7 });
    pair.control('HALVIX/NONE', 'output', { operation: 'trip' });
    pair.ask({ what: 'tag', point: 'HALVIX/TRIP', inhibits: 'close', reason: 'crew on the line' });
    pair.control('HALVIX/TRIP', 'output', { operation: 'close' });
    pair.serve({ type: 'order', order: 'message', text: 'Tie opens at 14:00' });
    pair.command({ type: 'survey', id: 's' });
    pair.run(1000);
    pair.command({ type: 'setPoints', points: list.slice(0, 1) });
    pair.run(1000);
    return sentIn(pair);
  },
  'blocked transfers': () => {
    const offers = [offered('analog', 'TIE_MW', 'RealQTimeTag'), offered('doubleBit', 'BREAKER', 'State')];
    const list = [listed(1, 'analog', 'HALVIX/TIE_MW'), listed(2, 'doubleBit', 'HALVIX/BREAKER')];
    const client = { integrityMs: 1000, blocked: true };
    const pair = new Both(list, offers, { client, server: { blocked: true } }).start().run(500);
    for (let n = 0; n < 5; n++) {
      pair.update('TIE_MW', n);
      pair.run(700);
    }
    return sentIn(pair);
  },
  'both roles in one association': () => {
    const two = new Two(true).connect();
    for (let n = 0; n < 3; n++) {
      two.update('west', n);
      two.update('east', -n);
    }
    two.control('west', 'EAST');
    two.control('east', 'WEST');
    return two.sent.map(({ octets, fromWest }) => ({ octets, fromCaller: fromWest }));
  },
};

test.each(Object.entries(SESSIONS))('a dissector reads %s, and agrees on each message', async (name, session) => {
  const sent = session();
  const { requests, responses, reports } = messagesOf(sent);
  const file = join(mkdtempSync(join(tmpdir(), 'halvix-')), 'tase2.pcap');
  writeFileSync(file, streamOf(sent, 102));
  const fields = async (filter: string, ...names: string[]): Promise<string[][]> => {
    const args = ['-r', file, '-Y', filter, '-T', 'fields', ...names.flatMap((name) => ['-e', name])];
    const { stdout } = await run('tshark', args, { maxBuffer: 1 << 26 });
    return stdout
      .split('\n')
      .slice(0, -1)
      .map((line) => line.split('\t'));
  };
  const wrong = await fields('_ws.malformed || _ws.expert.severity >= 0x600000', 'frame.number', '_ws.expert.message');
  expect(wrong).toEqual([]);
  expect(reports.length, name).toBeGreaterThan(3);
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

describe('the system', () => {
  let rig: Rig;
  beforeAll(async () => {
    rig = await (await Rig.make('tase2', inject('postgres'), { peers: true })).start();
    await rig.until('Northmark answers', async () => (await rig.hop('device', 'NMK'))?.state === 'answering', 30_000);
    await rig.until('Northmark has ours', async () => (await seen('VBU/HLM_F1_AN1')) !== undefined, 30_000);
  });
  afterAll(() => rig.stop());

  interface Seen {
    address: string;
    value: number;
    quality: number;
    event: boolean;
  }
  const seen = async (address: string): Promise<Seen | undefined> =>
    (await rig.bench<Seen[]>('GET', '/centres/NMC/points')).find((one) => one.address === address);
  const latest = async (name: string): Promise<Record<string, number> | undefined> => {
    const [row] = await rig.sql`
      select raw, value, quality from latest join point_identity on id = point_id
      where device = 'NMK' and address = ${`NMK/${name}`}`;
    return row;
  };
  const operations = async (): Promise<number> =>
    (await rig.bench<{ operations: number }>('GET', '/devices/NMK')).operations;
  async function order(name: string, operation: string, counts: number | null, device = 'NMK') {
    const address = `${device}/${name}`;
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

  test('all that the agreement names is good, reported, and read by nobody', async () => {
    await rig.until('it is whole', async () => {
      const [row] = await rig.sql`
        select count(*)::int as count from latest join point_identity on id = point_id
        where device = 'NMK' and quality = 0`;
      return row.count === 10;
    });
    // Counters are told in rounds of their own.
    await rig.until('its reports are counted', async () => (await rig.hop('device', 'NMK')).counters.reports > 0);
    expect((await rig.hop('device', 'NMK')).counters).toMatchObject({ unusable: 0, errors: 0 });
  });

  test('a value that plays at the neighbour is here as it goes, and known as not its own', async () => {
    const point = '/devices/NMK/points/analog/0';
    const csv = 'time,value\n0,11\n400,12.5\n';
    const wrong = rig.bench('PUT', `${point}/play`, { shape: 'replay', csv: '0,1\n5,x' });
    await expect(wrong).rejects.toThrow('400 csv: line 2: x is not a value');
    await rig.bench('PUT', `${point}/play`, { shape: 'replay', csv });
    const rows = async (): Promise<{ raw: number; quality: number }[]> =>
      rig.sql`select raw, quality from reading join point_identity on id = point_id
        where device = 'NMK' and raw in (11, 12.5) order by received desc limit 20`;
    await rig.until('both values come, again and again', async () => (await rows()).length > 3, 10_000);
    expect(new Set((await rows()).map(({ quality }) => quality))).toEqual(new Set([Quality.forcedAtDevice]));
    await rig.bench('DELETE', point);
    await rig.until('it is its own again', async () => {
      const all = await rig.sql`select quality from latest join point_identity on id = point_id where device = 'NMK'`;
      return all.every(({ quality }) => quality !== Quality.forcedAtDevice);
    });
  });

  test('a change at the neighbour is stored here, and one here is seen there, within two seconds', async () => {
    await rig.bench('PUT', '/devices/NMK/points/binary/1', { value: 1 });
    const took = await rig.until('the alarm is here', async () => (await latest('NET_ALARM'))?.raw === 1);
    expect(took).toBeLessThan(15_000);
    await rig.bench('DELETE', '/devices/NMK/points/binary/1');
    await rig.force('analog', 7, 4321);
    const there = await rig.until('the value is there', async () => {
      const one = await seen('VBU/HLM_F1_AN8');
      return one !== undefined && one.event && Math.abs(one.value) > 0 && (one.quality & 4) !== 0;
    });
    expect(there).toBeLessThan(15_000);
    await rig.release('analog', 7);
  });

  test('the neighbour’s breaker is operated by check-back, and a set point beyond his limits is refused', async () => {
    const before = await operations();
    expect(await order('TIE_CB_CMD', 'trip', null)).toMatchObject({ state: 'confirmed' });
    await rig.until('it is open', async () => (await latest('TIE_CB'))?.raw === 1);
    expect(await order('TIE_CB_CMD', 'close', null)).toMatchObject({ state: 'confirmed' });
    expect(await operations()).toBe(before + 2);
    expect(await order('TIE_SCHED', 'set', 9.5)).toMatchObject({ state: expect.stringMatching(/confirmed|operated/) });
    expect(await operations()).toBe(before + 3);
    await rig.until('the flow follows', async () => Math.abs(((await latest('TIE_MW'))?.value ?? 0) - 9.5) < 1);
  });

  test('he operates our relay through the agreement, and its refusal comes back', async () => {
    const control = (operation: string): Promise<{ step: string; words?: string }[]> =>
      rig.bench('POST', '/centres/NMC/controls', { reference: 'VBU/HLM_F1_CMD1', operation });
    const relay = async (): Promise<number> =>
      (await rig.bench<{ operations: number }>('GET', '/devices/HLM-F1')).operations;
    const before = await relay();
    const steps = (await control('trip')).map(({ step }) => step);
    expect(steps).toEqual(['selectSent', 'selected', 'operateSent', 'operated']);
    expect(await relay()).toBe(before + 1);
    await rig.force('binary', 6, 0);
    expect((await control('close')).at(-1)).toMatchObject({ step: 'refused' });
    expect(await relay()).toBe(before + 1);
    await rig.release('binary', 6);
  });

  test('what the agreement does not name is not there for him', async () => {
    const points = await rig.bench<Seen[]>('GET', '/centres/NMC/points');
    expect(points.map(({ address }) => address).filter((one) => !/^VBU\/HLM_F1_(ST|AN|CMD)\d+$/.test(one))).toEqual([]);
    // What is operated has no value to be seen.
    expect(points.length).toBe(14);
  });

  test('a centre that is both in one association gives us its own, has ours, and is operated', async () => {
    const caldmere = async (name: string): Promise<{ raw: number; quality: number } | undefined> => {
      const rows = await rig.sql<{ raw: number; quality: number }[]>`
        select raw, quality from latest join point_identity on id = point_id
        where device = 'CMR' and address = ${`CMR/${name}`}`;
      return rows[0];
    };
    await rig.until('its values are here', async () => (await caldmere('REG_MW'))?.quality === 0, 30_000);
    const there = async (): Promise<Seen[]> => rig.bench<Seen[]>('GET', '/centres/CMC/points');
    await rig.until('ours are there', async () => (await there()).length === 4, 30_000);
    // What comes from one neighbour goes on to the other one, and none of its own comes back to it.
    expect((await there()).map(({ address }) => address).sort()).toEqual(
      ['HLM_F1_AN1', 'HLM_F1_AN2', 'HLM_F1_AN3', 'NMK_TIE_MW'].map((name) => `VBU/${name}`),
    );
    await rig.bench('PUT', '/devices/CMR/points/binary/0', { value: 1 });
    const here = await rig.until('the alert is here', async () => (await caldmere('ALERT'))?.raw === 1);
    await rig.bench('DELETE', '/devices/CMR/points/binary/0');
    await rig.bench('PUT', '/devices/NMK/points/analog/0', { value: 17.25 });
    const through = await rig.until('the tie is there', async () =>
      (await there()).some(({ address, value }) => address === 'VBU/NMK_TIE_MW' && value === 17.25),
    );
    await rig.bench('DELETE', '/devices/NMK/points/analog/0');
    expect(Math.max(here, through)).toBeLessThan(15_000);
    expect(await order('OUR_RES', 'set', 7.5, 'CMR')).toMatchObject({
      state: expect.stringMatching(/confirmed|operated/),
    });
    await rig.until('it has taken note', async () => (await caldmere('RES_MW'))?.raw === 7.5);
    expect(await rig.hop('outbound', 'CMC')).toMatchObject({ state: 'listening', problem: null });
  });

  test('with it both are lost, and both are taken up again; the next try is told', async () => {
    await rig.bench('PUT', '/devices/CMR/power', { on: false });
    const link = async (): Promise<{ state: string; nextTry: number | null }> => rig.hop('link', 'CMR-WAN');
    await rig.until('the next try is known', async () => ((await link())?.nextTry ?? 0) > Date.now(), 30_000);
    await rig.until('it is not connected', async () => (await rig.hop('outbound', 'CMC')).connectedFrom === null);
    await rig.bench('PUT', '/devices/CMR/power', { on: true });
    await rig.until('it answers', async () => (await rig.hop('device', 'CMR')).state === 'answering', 30_000);
    await rig.until('it asks', async () => (await rig.hop('outbound', 'CMC')).connectedFrom !== null, 30_000);
  });

  test('a neighbour that restarts is taken up by itself, with his transfer sets', async () => {
    await rig.bench('PUT', '/devices/NMK/power', { on: false });
    const link = async (): Promise<{ state: string }> => rig.hop('link', 'NMK-WAN');
    await rig.until('he is gone', async () => (await link()).state !== 'connected', 30_000);
    await rig.bench('PUT', '/devices/NMK/power', { on: true });
    await rig.until('he is there', async () => (await link()).state === 'connected', 30_000);
    await rig.bench('PUT', '/devices/NMK/points/binary/1', { value: 1 });
    await rig.until('the alarm is here', async () => (await latest('NET_ALARM'))?.raw === 1);
    await rig.bench('DELETE', '/devices/NMK/points/binary/1');
  });

  test('through a line that is cut again and again the last value is right, and no change is stored twice', async () => {
    const rows = Array.from({ length: 20 }, (_, n) => `${n * 250},${100 + n}`);
    await rig.bench('PUT', '/links/NMK/impairments', { cutEveryMs: 900 });
    const play = { shape: 'replay', csv: rows.join('\n'), again: false };
    await rig.bench('PUT', '/devices/NMK/points/analog/0/play', play);
    await new Promise((resolve) => setTimeout(resolve, 4500));
    await rig.bench('PUT', '/links/NMK/impairments', { cutEveryMs: 0 });
    await rig.until('he answers', async () => (await rig.hop('device', 'NMK')).state === 'answering', 30_000);
    await rig.until('the last value is here', async () => (await latest('TIE_MW'))?.raw === 119, 30_000);
    const twice = await rig.sql`
      select raw, count(*)::int as count from reading join point_identity on id = point_id
      where device = 'NMK' and address = 'NMK/TIE_MW' and cause = 1 and raw between 100 and 119
      group by raw having count(*) > 1`;
    expect([...twice]).toEqual([]);
    await rig.bench('DELETE', '/devices/NMK/points/analog/0');
  });

  test('a neighbour that was away when we started is taken up when he comes, and the next try is told until then', async () => {
    await rig.bench('PUT', '/devices/NMK/power', { on: false });
    await rig.system.kill('engine');
    await rig.startEngine();
    const link = async (): Promise<{ state: string; nextTry: number | null }> => rig.hop('link', 'NMK-WAN');
    await rig.until('the next try is known', async () => ((await link())?.nextTry ?? 0) > Date.now(), 30_000);
    await rig.bench('PUT', '/devices/NMK/power', { on: true });
    await rig.until('he answers', async () => (await rig.hop('device', 'NMK')).state === 'answering', 30_000);
    await rig.until('his values are good', async () => (await latest('TIE_MW'))?.quality === 0);
  });

  test('one that calls us is both in the association that it has made', async () => {
    const { caldmere: _, ...ports } = rig.ports;
    const configuration = demoConfiguration(ports);
    // Where Northmark calls, told apart by the selector that it calls.
    const device = {
      ...{ code: 'CMR', name: 'Caldmere', station: 'HLM', link: 'NMC', protocol: 'tase2' },
      ...{
        settings: { domain: 'CMR' },
        points: [{ kind: 'analog', at: { protocol: 'tase2', domain: 'CMR', name: 'REG_MW' }, name: 'Load' }],
      },
    };
    const outbound = {
      ...{ code: 'CMC', name: 'region', centre: 'Caldmere', link: 'NMC', protocol: 'tase2', partner: 'CMR' },
      ...{ allowFrom: [...LOOPBACK_ONLY], settings: { domain: 'VBU', transportSelector: '0002' } },
      mappings: [
        {
          ...{ device: 'NMK', point: 'NMK/TIE_MW' },
          target: {
            kind: 'analog',
            value: 'engineering',
            at: { protocol: 'tase2', name: 'TIE', type: 'RealQTimeTag' },
          },
        },
      ],
    };
    await rig.apply({
      ...configuration,
      devices: [
        ...configuration.devices.map((one) =>
          one.code === 'NMK' ? { ...one, life: 'onTest', passOnWhileOnTest: true } : one,
        ),
        device,
      ],
      outbounds: [...configuration.outbounds, outbound],
    });
    const caller = new BothRoles(rig.ports.agreement ?? 0, {
      client: { domain: 'VBU', transportSelector: '0002' },
      list: [listed(1, 'analog', 'VBU/TIE')],
      server: { domain: 'CMR' },
      offers: [offered('analog', 'REG_MW', 'RealQTimeTag')],
    });
    await rig.bench('PUT', '/devices/NMK/points/analog/0', { value: 18.25 });
    await rig.until('ours is there', async () => caller.last === 18.25, 30_000);
    // Of a device on test a value is made up, and known as that at the far end too.
    const play = { shape: 'square', low: 77, high: 77, periodMs: 1000 };
    const id = await rig.probe({ type: 'play', device: 'NMK', point: 'NMK/TIE_MW', play });
    await rig.until('what is made up is there', async () => caller.last === 77);
    expect(caller.quality & Quality.forcedAtDevice).toBe(Quality.forcedAtDevice);
    await rig.until(
      'it is shown as that',
      async () => (await latest('TIE_MW'))?.quality === (Quality.forcedHere | Quality.test),
    );
    await rig.until('it is said who', async () => (await rig.hop('device', 'NMK')).playing[0]?.by === 'test');
    await rig.sql`select pg_notify('halvix_request', ${JSON.stringify({ type: 'cancelProbe', id })})`;
    await rig.until('its own is there again', async () => caller.last === 18.25);
    await rig.bench('DELETE', '/devices/NMK/points/analog/0');
    await rig.until(
      'its client is let in',
      async () => (await rig.hop('device', 'CMR'))?.state === 'answering',
      30_000,
    );
    caller.update(1480.5);
    await rig.until('its value is here', async () => {
      const [row] =
        await rig.sql`select raw from latest join point_identity on id = point_id where device = 'CMR' and address = 'CMR/REG_MW'`;
      return row?.raw === 1480.5;
    });
    caller.close();
    await rig.until('it is gone', async () => (await rig.hop('outbound', 'CMC')).connectedFrom === null, 30_000);
  });
});
