import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { compareEvents, type Logged } from '../rig/count.ts';
import { Owed, OUTBOUNDS } from '../rig/owed.ts';
import { Rig } from '../rig/rig.ts';

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

/** All kinds of ends and changes are in `e2e/long/owed.test.ts`; these are the commonest, in one go. */
describe('what was taken is delivered', () => {
  let rig: Rig;
  let owed: Owed;
  beforeAll(async () => {
    rig = await Rig.make('owed', inject('postgres'));
    await rig.start();
    owed = await Owed.make(rig);
    await owed.apply();
  });
  afterAll(async () => {
    owed.stop();
    await rig.stop();
  });

  test.each([
    ['away', false],
    ['there', true],
  ])(
    'centres are %s: an orderly end, a kill, other names, another order and a renamed device lose nothing, double nothing',
    async (_words, there) => {
      owed.come();
      await owed.answering();
      const since = Date.now() + 50;
      await pause(100);
      if (!there) owed.go();
      await owed.storm(200);
      await pause(1000);
      await rig.system.stop('engine');
      await rig.startEngine();
      await pause(1000);
      await owed.apply((configuration) => {
        configuration.devices[0].code = there ? 'HLM-F1' : 'HLM-F9';
        for (const outbound of configuration.outbounds) {
          [outbound.centre, outbound.code] = there
            ? ['Here', outbound.code.slice(0, -1)]
            : ['There', `${outbound.code}X`];
          outbound.mappings.reverse();
          for (const mapping of outbound.mappings) mapping.device = configuration.devices[0].code;
        }
      });
      await pause(2000);
      if (!there) await rig.system.kill('engine');
      if (!there) await rig.startEngine();
      if (!there) owed.come();
      await owed.storm(0);
      const counted = await owed.count(since);
      for (const code of OUTBOUNDS) {
        const { made, lost, doubled, disordered } = counted[code];
        expect(made, code).toBeGreaterThan(500);
        expect(
          [lost.slice(0, 3), doubled.slice(0, 3), disordered.slice(0, 3)],
          `${code}: ${lost.length} of ${made} lost`,
        ).toEqual([[], [], []]);
      }
    },
  );
});

describe('history cannot be written', () => {
  let rig: Rig;
  beforeAll(async () => {
    rig = await Rig.make('blind', inject('postgres'));
    await rig.start();
  });
  afterAll(() => rig.stop());

  test('a centre still sees what changes; an engine told to end meanwhile loses nothing', async () => {
    const answering = async (): Promise<boolean> => (await rig.centrePoint('QST', 'analog', 7)) !== undefined;
    await rig.until('the centre has values', answering);
    let letGo = (): void => {};
    let held = (): void => {};
    const gate = new Promise<void>((resolve) => (letGo = resolve));
    const isHeld = new Promise<void>((resolve) => (held = resolve));
    const lock = rig.sql.begin(async (tx) => {
      await tx`lock table reading in access exclusive mode`;
      held();
      await gate;
    });
    await isHeld;
    await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 50 });
    await pause(6000);
    await rig.force('analog', 7, 4321);
    const tookMs = await rig.until(
      'the centre sees it',
      async () => (await rig.centrePoint('QST', 'analog', 7))?.value === 4321,
      12_000,
    );
    process.stdout.write(`with history locked a change reached the centre within ${tookMs} ms\n`);
    await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 0 });
    await rig.system.stop('engine');
    letGo();
    await lock;
    await rig.startEngine();
    await rig.until(
      'the relay has handed everything over',
      async () => (await rig.bench<{ eventsWaiting: number }>('GET', '/devices/HLM-F1')).eventsWaiting === 0,
      30_000,
    );
    await pause(1000);
    const log = await rig.bench<Logged[]>('GET', '/devices/HLM-F1/log');
    const settled = log.filter(({ time }) => time < Date.now() - 3000);
    const { lost, repeated } = await compareEvents(rig, settled, 'HLM-F1');
    expect([lost.slice(0, 3), repeated.slice(0, 3)]).toEqual([[], []]);
  });
});
