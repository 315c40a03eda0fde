import { numberOf } from '@halvix/core/protocols';
import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { spawn } from 'node:child_process';
import { measureLatePolls } from '../../scripts/lib/latepolls.mjs';
import { dataFolder } from '../../scripts/lib/postgres.mjs';
import { ROOT } from '../../scripts/lib/run.mjs';
import { demoConfiguration } from '../../bench/scenario/configuration.ts';
import { Rig } from '../rig/rig.ts';

const folder = dataFolder(`test-apply-${process.pid}`);

describe('applying to one device while twenty others are polled', () => {
  let rig: Rig;
  beforeAll(async () => {
    rig = await Rig.make('late', inject('postgres'), { moreRelays: 21 });
    await rig.start({ demo: false });
  });
  afterAll(() => rig.stop());

  test('no poll of the others is missed or late by more than a period', async () => {
    // A busy machine may stand still for a moment; what applying does to the others it does each time.
    for (let attempt = 1; ; attempt++) {
      const result = await measureLatePolls({
        system: rig.system,
        benchPort: rig.ports.bench,
        ports: rig.moreRelays,
        folder,
        until: (what, holds) => rig.until(what, holds, 30_000),
      });
      console.log(
        `late polls: ${result.late} of ${result.polls} around ${result.changed} applied changes, longest gap ${result.longestGapMs} ms`,
      );
      expect(result.changed).toBe(6);
      expect(result.polls).toBeGreaterThan(150);
      if (result.late === 0) return;
      expect(attempt, `${result.late} late`).toBeLessThan(4);
    }
  });
});

describe('lives, lists and mappings of a running system', () => {
  let rig: Rig;
  beforeAll(async () => {
    rig = await Rig.make('lives', inject('postgres'));
    await rig.start();
    await rig.until('the centre has values', async () => (await rig.centrePoint('QST', 'analog', 7)) !== undefined);
    await rig.until('its connection is known', async () =>
      Boolean((await rig.hop('outbound', 'QST'))?.connectionSince),
    );
  });
  afterAll(() => rig.stop());

  type Loose = ReturnType<typeof demoConfiguration>;
  const halvix = (...args: string[]): Promise<{ code: number; out: string; err: string }> =>
    new Promise((resolve) => {
      const child = spawn(process.execPath, [join(ROOT, 'dist/halvix.js'), ...args], {
        env: { ...process.env, ...rig.system.env },
      });
      let [out, err] = ['', ''];
      child.stdout.on('data', (text) => (out += String(text)));
      child.stderr.on('data', (text) => (err += String(text)));
      child.on('close', (code) => resolve({ code: code ?? -1, out, err }));
    });
  const fileOf = (name: string, content: unknown): string => {
    const file = join(folder, name);
    writeFileSync(file, typeof content === 'string' ? content : JSON.stringify(content));
    return file;
  };
  const applied = async (change: (configuration: Loose) => void): Promise<void> => {
    const configuration = demoConfiguration({ ...rig.ports });
    change(configuration);
    const { code, err } = await halvix('config', 'apply', fileOf('demo.json', configuration));
    expect(err).toBe('');
    expect(code).toBe(0);
  };
  const flagsAtCentre = async (): Promise<number> => (await rig.centrePoint('QST', 'analog', 7))?.flags ?? -1;
  const connectionOf = async (): Promise<number> => (await rig.hop('outbound', 'QST')).connectionSince as number;

  test('on test a device is collected and not passed on; asked for, it is', async () => {
    const before = await connectionOf();
    await applied(({ devices }) => (devices[0].life = 'onTest'));
    await rig.until('the centre is told', async () => !((await flagsAtCentre()) & 1));
    await rig.force('analog', 7, 11_111);
    await rig.until('it is collected', async () => {
      const [row] = await rig.sql`select raw from latest where point_id = ${await rig.pointId('analog', 7)}`;
      return row?.raw === 11_111;
    });
    await new Promise((resolve) => setTimeout(resolve, 2500));
    expect((await rig.centrePoint('QST', 'analog', 7))?.value).not.toBe(11_111);
    const control = await rig.bench<{ status?: number; steps?: unknown }>('POST', '/centres/QST/controls', {
      index: 0,
      operation: 'trip',
      mode: 'direct',
    });
    expect(JSON.stringify(control)).toContain('15');
    await applied(({ devices }) => {
      devices[0].life = 'onTest';
      devices[0].passOnWhileOnTest = true;
    });
    await rig.until('it is passed on', async () => (await rig.centrePoint('QST', 'analog', 7))?.value === 11_111);
    expect(await connectionOf()).toBe(before);
    await rig.release('analog', 7);
  });

  test('out of service a device is not polled, and its points say so', async () => {
    await applied(({ devices }) => (devices[0].life = 'outOfService'));
    await rig.until('the points say so', async () => {
      const [row] = await rig.sql`select quality from latest where point_id = ${await rig.pointId('analog', 7)}`;
      return ((row?.quality as number) & (1 << 14)) !== 0;
    });
    const began = Date.now();
    await new Promise((resolve) => setTimeout(resolve, 2500));
    expect(await rig.bench('GET', `/devices/HLM-F1/heard?after=${began}`)).toEqual([]);
    await rig.until('the centre is told', async () => !((await flagsAtCentre()) & 1));
    await applied(() => {});
    await rig.until('all is well again', async () => ((await flagsAtCentre()) & 1) !== 0);
  });

  test('a drafted device is not collected', async () => {
    await applied(({ devices }) => (devices[0].life = 'drafted'));
    await rig.until('it is gone', async () => (await rig.hop('device', 'HLM-F1')) === undefined);
    await applied(() => {});
    await rig.until('it is back', async () => (await rig.hop('device', 'HLM-F1'))?.state === 'answering');
  });

  test('another list and another mapping leave both sessions as they are; conversions reach the centre', async () => {
    await rig.until('the centre has it', async () => ((await flagsAtCentre()) & 1) !== 0);
    const connection = await connectionOf();
    const link = (await rig.hop('link', 'HLM-LAN-F1')).since as number;
    await applied(({ devices, outbounds }) => {
      devices[0].points[40].name = 'Another name';
      outbounds[0].mappings.push(
        {
          device: 'HLM-F1',
          point: 'AI 7',
          target: {
            kind: 'analog',
            at: { protocol: 'dnp3', index: 100, eventClass: 2, staticVariation: 5, eventVariation: 7 },
            deadband: null,
            mayControl: true,
            value: 'engineering',
          },
        },
        {
          device: 'HLM-F1',
          point: 'BI 0',
          target: {
            kind: 'doubleBit',
            at: { protocol: 'dnp3', index: 0, eventClass: 1, staticVariation: 2, eventVariation: 2 },
            mayControl: true,
            deadband: 0,
            value: 'raw',
          },
        },
      );
    });
    await rig.force('analog', 7, 33_000);
    await rig.until(
      'in units',
      async () => Math.abs(((await rig.centrePoint('QST', 'analog', 100))?.value ?? 0) - 33) < 1e-4,
    );
    await rig.until('as a double bit', async () => (await rig.centrePoint('QST', 'doubleBit', 0))?.value === 2);
    expect(await connectionOf()).toBe(connection);
    expect((await rig.hop('link', 'HLM-LAN-F1')).since).toBe(link);
    await rig.release('analog', 7);
  });

  test('limits, range and what history keeps', async () => {
    await applied(({ devices }) => {
      const at = (index: number) => devices[0].points.find((p) => p.kind === 'analog' && numberOf(p) === index)!;
      at(20).limits = { lowLow: null, low: null, high: 900, highHigh: 950, hysteresis: 10, delayMs: 0 };
      at(21).history = { mode: 'deadband' };
      at(21).deadband = { value: 100, of: 'absolute' };
      at(22).pairs = { rawLow: 4000, rawHigh: 20_000, low: 0, high: 100 };
      at(22).range = 'liveZero';
    });
    const latest = async (index: number) => {
      const [row] = await rig.sql`select * from latest where point_id = ${await rig.pointId('analog', index)}`;
      return row;
    };
    await rig.force('analog', 20, 960);
    await rig.until('beyond high-high', async () => (await latest(20)).limit_level === 3);
    await rig.release('analog', 20);
    await rig.until('back', async () => (await latest(20)).limit_level === null);
    const [noted] = await rig.sql`select words from journal where words like '%beyond high-high%'`;
    expect(noted.words).toContain('Last fault current L2');
    await rig.force('analog', 22, 3000);
    await rig.until('the loop has failed', async () => ((await latest(22)).quality & (1 << 13)) !== 0);
    await rig.until(
      'the centre is told',
      async () => !(((await rig.centrePoint('QST', 'analog', 22))?.flags ?? 1) & 1),
    );
    await rig.release('analog', 22);
    const count = async (): Promise<number> => {
      const [row] = await rig.sql`select count(*) as n from reading where point_id = ${await rig.pointId('analog', 21)}
        and quality = 4 and raw in (5000, 5050, 5200)`;
      return Number(row.n);
    };
    for (const value of [5000, 5050, 5200]) {
      await rig.force('analog', 21, value);
      await rig.until('seen', async () => (await latest(21)).raw === value);
    }
    await rig.until('two of three are kept', async () => (await count()) === 2);
    await rig.release('analog', 21);
  });

  test('the command line: export, check, diff, points, try, with exit codes and JSON', async () => {
    await applied(() => {});
    const out = join(folder, 'out.json');
    expect((await halvix('config', 'export', out)).code).toBe(0);
    expect(await halvix('config', 'check', out)).toMatchObject({ code: 0, out: 'nothing is wrong with it\n' });
    expect((await halvix('config', 'diff', out)).code).toBe(0);
    const changed = JSON.parse(readFileSync(out, 'utf8')) as Loose;
    (changed.devices[0].settings as { retries: number }).retries = 5;
    const diff = await halvix('config', 'diff', fileOf('changed.json', changed), '--json');
    expect(diff.code).toBe(3);
    expect(JSON.parse(diff.out)).toMatchObject({
      changes: [{ what: 'changed', kind: 'device', words: ['Retries: 2 → 5'] }],
      effects: [{ code: 'HLM-F1', effect: 'adopts' }],
    });
    Object.assign(changed.devices[0].settings, { theirAddress: 1 });
    const refused = await halvix('config', 'apply', fileOf('bad.json', changed));
    expect(refused).toMatchObject({ code: 1, out: '' });
    expect(refused.err).toContain("our address and the device's are both 1");
    expect((await halvix('config', 'check', fileOf('none.json', '{'))).code).toBe(1);
    expect((await halvix('nonsense')).code).toBe(2);

    const csv = join(folder, 'points.csv');
    expect((await halvix('points', 'export', csv)).code).toBe(0);
    expect((await halvix('points', 'import', csv)).out).toContain('0 new, 0 changed, 80 as they were');
    const wrong = await halvix(
      'points',
      'import',
      fileOf('wrong.csv', 'Device,Kind,Address,Name\nHLM-F1,AI,70000,X\n'),
      '--json',
    );
    expect(wrong.code).toBe(1);
    expect(JSON.parse(wrong.out)).toMatchObject({ problems: [{ row: 2, column: 'Address', value: '70000' }] });
    const fresh = fileOf('fresh.csv', 'Device,Kind,Address,Name\nHLM-F1,AI,900,Fresh\n');
    expect((await halvix('points', 'import', fresh, '--dry-run')).out).toContain('1 new');
    expect((await halvix('config', 'diff', out, '--draft')).code).toBe(0);
    expect((await halvix('points', 'import', fresh)).code).toBe(0);
    expect((await halvix('config', 'diff', out, '--draft')).out).toContain('- point HLM-F1, AI 900 Fresh');

    await rig.bench('PUT', '/devices/HLM-F2/power', { on: true });
    const second = JSON.parse(readFileSync(out, 'utf8')) as Loose;
    second.links.push({
      ...second.links.find(({ code }) => code === 'HLM-LAN-F1')!,
      code: 'F2',
      port: rig.ports.relay2,
    });
    second.devices.push({
      ...second.devices[0],
      code: 'HLM-F2',
      link: 'F2',
      life: 'drafted',
      settings: { ...second.devices[0].settings, theirAddress: 12 },
    } as Loose['devices'][number]);
    expect((await halvix('config', 'import', fileOf('second.json', second))).code).toBe(0);
    const tried = await halvix('try', 'HLM-F2');
    expect(tried.out).toContain('read good: 28 binary inputs, 12 binary controls, 36 analog inputs, 4 counters');
    expect(tried.code).toBe(0);
    Object.assign(second.devices[1].settings, { theirAddress: 13 });
    await halvix('config', 'import', fileOf('second.json', second));
    const mistaken = await halvix('try', 'HLM-F2');
    expect(mistaken.code).toBe(4);
    expect(mistaken.out).toContain('connected, but silent');
  });

  test('a survey compares what a device has with its list', async () => {
    const id = await rig.survey('HLM-F1');
    const [row] = await rig.sql`select result from probe where id = ${id}`;
    const result = row.result as { surveyed: unknown[]; attributes: { name: string; text: string }[] };
    expect(result.surveyed).toHaveLength(80);
    expect(result.attributes).toContainEqual({
      variation: 250,
      name: 'Product and model',
      text: 'Feeder relay, simulated',
    });
  });
});
