import { describe, expect, test } from 'vitest';
import { Quality } from '../../../point/index.ts';
import { messagesOf } from '../../mms/trials/messages.ts';
import { Both, listed, offered } from './both.ts';

const OFFERS = [
  offered('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS', { name: 'Door' }),
  offered('doubleBit', 'HLM/XCBR1.Pos[ST]', 'DPC', { name: 'Breaker' }),
  offered('output', 'HLM/XCBR1.Pos[CO]', 'DPC', { name: 'Breaker' }),
  offered('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', { name: 'Current', unit: 'A' }),
  offered('counter', 'HLM/GGIO1.CntRs1[ST]', 'BCR'),
  offered('setpoint', 'HLM/GGIO1.AnOut1[CO]', 'APC'),
  offered('text', 'HLM/GGIO1.TxtIn1[ST]', 'VSS'),
];
const LIST = [
  listed(1, 'binary', 'HLM/GGIO1.Ind1.stVal[ST]'),
  listed(2, 'doubleBit', 'HLM/XCBR1.Pos[ST]'),
  listed(3, 'output', 'HLM/XCBR1.Pos[CO]'),
  listed(4, 'analog', 'HLM/GGIO1.AnIn1.mag.f[MX]'),
  listed(5, 'counter', 'HLM/GGIO1.CntRs1[ST]'),
  listed(6, 'setpoint', 'HLM/GGIO1.AnOut1[CO]'),
  listed(7, 'text', 'HLM/GGIO1.TxtIn1.stVal[ST]'),
];
const both = (settings: ConstructorParameters<typeof Both>[2] = {}): Both => new Both([...LIST], OFFERS, settings);

describe('a device that reports', () => {
  test('brings all present values, then each change with its quality and the time that it has there', () => {
    const pair = both().start();
    expect(pair.client.ways).toEqual({ reported: 7, polled: 0, unreadable: 0 });
    expect(pair.detail('reports').rows.map(({ key }) => key)).toEqual([
      'HLM/LLN0$BR$brcbStatus01',
      'HLM/LLN0$BR$brcbMeasured01',
    ]);
    expect(LIST.map(({ id }) => pair.last(id)?.event)).toEqual(LIST.map(() => false));
    pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', 41.5);
    pair.update('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS', 1, { quality: Quality.chatter });
    pair.update('doubleBit', 'HLM/XCBR1.Pos[ST]', 'DPC', 2);
    pair.update('counter', 'HLM/GGIO1.CntRs1[ST]', 'BCR', 9_007_199_254_740_000);
    pair.update('text', 'HLM/GGIO1.TxtIn1[ST]', 'VSS', 0, { text: 'batch 7' });
    const at = pair.now;
    pair.run(200);
    expect(pair.last(4)).toEqual({ raw: 41.5, quality: 0, event: true, time: at });
    expect(pair.last(1)).toMatchObject({ raw: 1, event: true, time: at });
    expect((pair.last(1)?.quality ?? 0) & Quality.chatter).not.toBe(0);
    expect(pair.last(2)).toMatchObject({ raw: 2, event: true });
    // What is operated shows by its status.
    expect(pair.last(3)).toMatchObject({ raw: 1, event: true });
    expect(pair.last(5)).toMatchObject({ raw: 9_007_199_254_740_000, event: true });
    expect(pair.last(7)).toMatchObject({ text: 'batch 7', event: true });
    expect(pair.words('diagnostic')).toEqual([]);
  });

  test('changes that come in one piece are told one by one, with the times that they had', () => {
    const pair = both().start();
    const { at } = offered('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS');
    const times = [1, 2, 3, 4].map((n) => pair.now - 60_000 + n * 1000);
    const updates = times.map((time, n) => ({
      kind: 'binary' as const,
      at,
      value: (n + 1) % 2,
      quality: 0,
      time,
      always: true,
    }));
    pair.server.command({ type: 'update', updates }, pair.now);
    pair.run(500);
    const events = pair.readings(1).filter(({ event }) => event);
    expect(events.map(({ raw }) => raw)).toEqual([1, 0, 1, 0]);
    expect(events.map(({ time }) => time)).toEqual(times);
  });

  test('a time of a clock that is not set stays one', () => {
    const pair = both().start();
    pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', 5, { unsynchronised: true });
    pair.run(200);
    const sources = pair.news.flatMap((one) =>
      one.type === 'readings'
        ? one.readings.filter(({ id, event }) => id === 4 && event).map(({ timeSource }) => timeSource)
        : [],
    );
    expect(sources).toEqual(['deviceUnsynchronised']);
  });

  test('several members of one report keep their places, in whatever order they changed', () => {
    const pair = both({ client: { bufferMs: 200 } }).start();
    pair.update('counter', 'HLM/GGIO1.CntRs1[ST]', 'BCR', 77);
    pair.update('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS', 1);
    pair.update('doubleBit', 'HLM/XCBR1.Pos[ST]', 'DPC', 2);
    pair.run(500);
    expect([1, 2, 5].map((id) => pair.last(id)?.raw)).toEqual([1, 2, 77]);
    expect(pair.detail('reports').rows[0].cells.at(-3)).toBe('3 of 4 (data change)');
  });

  test('goes on behind what was stored, after a cut and in another session, with nothing lost and nothing twice', () => {
    const pair = both().start();
    const values: number[] = [];
    const change = (): void => {
      values.push(values.length + 1);
      pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', values.length);
      pair.run(100);
    };
    for (let n = 0; n < 5; n++) change();
    pair.cut();
    for (let n = 0; n < 50; n++) change();
    pair.start().run(1000);
    for (let n = 0; n < 5; n++) change();
    pair.cut();
    for (let n = 0; n < 20; n++) change();
    pair.renew(pair.keep);
    pair.start().run(1000);
    expect(
      pair
        .readings(4)
        .filter(({ event }) => event)
        .map(({ raw }) => raw),
    ).toEqual(values);
    expect(pair.words('diagnostic')).toEqual([]);
  });

  test.each([
    ['piece by piece', false],
    ['in one piece', true],
  ])(
    'the server is restarted, with what it remembers %s: nothing that its buffer held is lost, and nothing comes twice',
    (_words, anew) => {
      const pair = both().start();
      const values: number[] = [];
      const change = (count: number): void => {
        for (let n = 0; n < count; n++) {
          values.push(values.length + 1);
          pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', values.length);
          pair.update('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS', values.length % 2);
          pair.run(100);
        }
      };
      change(5);
      pair.cut();
      change(20);
      pair.restartServer(anew);
      change(20);
      pair.restartServer(anew);
      pair.start().run(1000);
      change(3);
      expect(
        pair
          .readings(4)
          .filter(({ event }) => event)
          .map(({ raw }) => raw),
      ).toEqual(values);
      expect(
        pair
          .readings(1)
          .filter(({ event }) => event)
          .map(({ raw }) => raw),
      ).toEqual(values.map((value) => value % 2));
      expect(pair.words('diagnostic')).toEqual([]);
    },
  );

  test.each([
    ['while it runs', 'adopts'],
    ['over a restart', 'restarts'],
  ])('mapped in another order %s, what waits goes on by what its members are called', (_words, how) => {
    const pair = both().start();
    pair.cut();
    for (let n = 1; n <= 10; n++) {
      pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', n);
      pair.run(50);
    }
    const more = offered('analog', 'HLM/GGIO1.AnIn9[MX]', 'MV');
    pair.offers = [more, ...[...pair.offers].reverse()];
    if (how === 'adopts') pair.serve({ type: 'setPoints', points: pair.offers });
    else pair.restartServer();
    for (let n = 11; n <= 13; n++) {
      pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', n);
      pair.run(50);
    }
    pair.start().run(2000);
    const came = pair.readings(4).filter(({ event }) => event);
    expect(came.map(({ raw }) => raw)).toEqual([1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13]);
    expect(pair.words('diagnostic')).toEqual([]);
  });

  test('gathered changes are owed before they are an entry: a restart within the buffer time loses none', () => {
    const pair = both({ client: { bufferMs: 5000 } }).start();
    for (let n = 1; n <= 3; n++) {
      pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', n);
      pair.run(100);
    }
    // A second change of the same member ends what is gathered.
    expect(
      pair
        .readings(4)
        .filter(({ event }) => event)
        .map(({ raw }) => raw),
    ).toEqual([1, 2]);
    pair.restartServer().start().run(8000);
    expect(
      pair
        .readings(4)
        .filter(({ event }) => event)
        .map(({ raw }) => raw),
    ).toEqual([1, 2, 3]);
  });

  test('what a server has kept is read as far as it is well-formed', () => {
    const pair = both().start();
    pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', 1);
    pair.run(100);
    const [first] = pair.kept;
    pair.kept = [
      first.subarray(0, first.length - 3),
      Uint8Array.of(1, 2, 3),
      ...pair.kept.map((piece) => piece.map((octet, at) => (at % 7 === 3 ? octet ^ 0x55 : octet))),
    ];
    pair.restartServer().start().run(500);
    pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', 2);
    pair.run(500);
    expect(pair.last(4)).toMatchObject({ raw: 2, event: true });
  });

  test('ten minutes away at fifty changes a second: all that the buffer holds comes, once and in order', () => {
    const pair = both({ server: { bufferValues: 50_000 } }).start();
    pair.cut();
    const count = 30_000;
    for (let n = 1; n <= count; n++) {
      pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', n);
      if (n % 10 === 0) pair.run(200);
    }
    pair.start().run(60_000);
    const events = pair.readings(4).filter(({ event }) => event);
    expect(events.length).toBe(count);
    expect(events.every(({ raw }, at) => raw === at + 1)).toBe(true);
    expect(pair.words('diagnostic')).toEqual([]);
  });

  test('says that its buffer has overflown, and what it still held comes', () => {
    const pair = both({ server: { bufferValues: 20 } }).start();
    pair.cut();
    for (let n = 1; n <= 50; n++) {
      pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', n);
      pair.run(100);
    }
    pair.start().run(1000);
    const events = pair.readings(4).filter(({ event }) => event);
    expect(events.map(({ raw }) => raw)).toEqual(Array.from({ length: 20 }, (_, n) => 31 + n));
    expect(pair.words('diagnostic').join()).toContain('its buffer had overflown');
  });

  test('is polled where reports are not wanted, with data sets read whole, and for points that say so', () => {
    const pair = both({ client: { reports: 'none', pollMs: 1000 } }).start();
    expect(pair.client.ways).toEqual({ reported: 0, polled: 7, unreadable: 0 });
    pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', 7.25);
    pair.run(1100);
    expect(pair.last(4)).toMatchObject({ raw: 7.25, event: false });
    const some = new Both(
      [...LIST.slice(0, 3), listed(4, 'analog', 'HLM/GGIO1.AnIn1.mag.f[MX]', 'poll')],
      OFFERS,
    ).start();
    expect(some.client.ways).toEqual({ reported: 3, polled: 1, unreadable: 0 });
  });

  test('another list is taken over while the association stands; what is not there says so', () => {
    const pair = both().start();
    pair.command({
      type: 'setPoints',
      points: [
        listed(1, 'analog', 'HLM/GGIO1.AnIn1[MX]'),
        listed(9, 'analog', 'HLM/GGIO1.AnIn9[MX]'),
        listed(10, 'binary', 'XYZ/GGIO1.Ind1[ST]'),
      ],
    });
    pair.run(200);
    pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', 3);
    pair.run(200);
    expect(pair.last(1)).toMatchObject({ raw: 3, event: true });
    const unreadable = pair.news.filter((one) => one.type === 'unreadable').at(-1);
    expect(unreadable).toMatchObject({ points: [9, 10] });
    expect(unreadable?.words).toContain('there is no HLM/GGIO1.AnIn9[MX]');
    expect(pair.counters()).toBe(1);
  });

  test('is silent when it answers nothing any more, within the time that is set for that, and is told so', () => {
    const pair = both().start();
    pair.deaf = true;
    pair.run(9000);
    expect(pair.news.filter((one) => one.type === 'communication')).toHaveLength(1);
    pair.run(1100);
    expect(pair.news.filter((one) => one.type === 'communication')).toHaveLength(2);
    pair.run(60_000);
    expect(
      pair.news.filter((one) => one.type === 'communication').map(({ state, words }) => `${state}: ${words}`),
    ).toEqual(['answering: associated', 'silent: it has said nothing for 10000 ms']);
  });
});

describe('an association', () => {
  test('is refused without the password, and made with it', () => {
    const refused = both({ server: { password: 'weir' } }).start();
    expect(refused.news.find((one) => one.type === 'communication')).toMatchObject({
      ...{ state: 'silent', words: expect.stringContaining('refused') },
    });
    expect(refused.told.some((one) => one.type === 'diagnostic' && one.words.includes('without the password'))).toBe(
      true,
    );
    const made = both({ server: { password: 'weir' }, client: { password: 'weir' } }).start();
    expect(made.news.find((one) => one.type === 'communication')).toMatchObject({ state: 'answering' });
  });
});

describe('what is operated shows', () => {
  const POS = 'HLM/XCBR1.Pos';
  const alone = (): Both =>
    new Both(
      [listed(1, 'doubleBit', `${POS}.stVal[ST]`), listed(2, 'output', `${POS}[CO]`)],
      [offered('output', `${POS}[CO]`, 'DPC')],
      { server: { controlModel: 'direct' } },
    ).start();

  test('by itself, where nothing else is mapped there: off and on of a double point', () => {
    const pair = alone();
    const seen = [1, 0, 1].map((value) => {
      pair.update('output', `${POS}[CO]`, 'DPC', value);
      pair.run(200);
      return pair.last(1)?.raw;
    });
    // Off is 1 and on is 2 (IEC 61850-7-3, 6.1).
    expect(seen).toEqual([2, 1, 2]);
  });

  test('with the origin and the number of its last control', () => {
    const origin = listed(3, 'analog', `${POS}.origin.orCat[ST]`);
    const number = listed(4, 'analog', `${POS}.ctlNum[ST]`);
    const pair = new Both(
      [listed(2, 'output', `${POS}[CO]`), origin, number],
      [offered('output', `${POS}[CO]`, 'DPC')],
      { server: { controlModel: 'direct' }, client: { pollMs: 200, origin: 'station' } },
    ).start();
    pair.control(`${POS}[CO]`, 'output', { operation: 'latchOn' });
    expect(pair.steps().at(-1)).toBe('operated');
    pair.update('output', `${POS}[CO]`, 'DPC', 1);
    pair.run(1000);
    expect(pair.last(3)?.raw).toBe(2);
    const first = pair.last(4)?.raw ?? -1;
    pair.onControl = ({ token }) => ({
      ...{ type: 'controlResult', token },
      outcomes: [{ result: 'blocked', status: null, protocol: null }],
    });
    pair.control(`${POS}[CO]`, 'output', { operation: 'latchOff' });
    pair.update('output', `${POS}[CO]`, 'DPC', 0);
    pair.run(1000);
    expect(first).toBeGreaterThanOrEqual(0);
    expect(pair.last(4)?.raw).toBe(first);
  });
});

describe('controls, through both ends', () => {
  test('one that comes while the association is made, or made anew, waits for it and goes out once', () => {
    const pair = both({ server: { controlModel: 'direct' } }).start();
    pair.cut();
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'trip' });
    expect(pair.steps()).toEqual([]);
    pair.start();
    expect(pair.steps()).toEqual(['operateSent', 'operated']);
    expect(pair.told.filter((one) => one.type === 'control')).toHaveLength(1);
  });

  test('one whose time is over meanwhile ends, and none waits for a device that is silent', () => {
    const pair = both({ server: { controlModel: 'direct' } }).start();
    pair.cut();
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'trip', expiresAt: pair.now + 1000 });
    pair.run(1000);
    expect(pair.steps()).toEqual(['expired: it had expired before it was sent']);
    pair.run(120_000);
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'trip' });
    expect(pair.steps().at(-1)).toBe('failed: the device does not answer; nothing was sent');
    pair.start();
    expect(pair.told.filter((one) => one.type === 'control')).toEqual([]);
  });

  const operate = (model: string): Both => {
    const pair = both({ server: { controlModel: model } }).start();
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'trip' });
    return pair;
  };
  test.each([
    ['direct', ['operateSent', 'operated'], ['direct']],
    ['directEnhanced', ['operateSent', 'operated'], ['direct']],
    ['selectBeforeOperate', ['selectSent', 'selected', 'operateSent', 'operated'], ['operate']],
    ['selectBeforeOperateEnhanced', ['selectSent', 'selected', 'operateSent', 'operated'], ['select', 'operate']],
  ])('%s', (model, steps, phases) => {
    const pair = operate(model);
    expect(pair.steps()).toEqual(steps);
    const asked = pair.told.filter((one) => one.type === 'control');
    expect(asked.map(({ phase }) => phase)).toEqual(phases);
    expect(asked.at(-1)?.items).toMatchObject([{ address: 'HLM/XCBR1.Pos[CO]', on: false }]);
  });

  test.each(['selectBeforeOperate', 'selectBeforeOperateEnhanced'])(
    '%s: who may not operate does not select either, and keeps nobody from it',
    (model) => {
      const pair = both({ server: { controlModel: model } }).start();
      pair.serve({ type: 'rights', peer: pair.peer, operates: false });
      pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'trip', mode: 'selectOnly' });
      expect(pair.steps().at(-1)).toMatch(/^refused/);
      expect(pair.told.filter((one) => one.type === 'control')).toEqual([]);
      pair.serve({ type: 'rights', peer: pair.peer, operates: true });
      pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'trip' });
      expect(pair.steps().at(-1)).toBe('operated');
    },
  );

  test('what is only seen is not operated', () => {
    expect(operate('statusOnly').steps()[0]).toMatch(/^failed: /);
  });

  test('what its device says comes back as the cause', () => {
    for (const model of ['direct', 'directEnhanced', 'selectBeforeOperate', 'selectBeforeOperateEnhanced'])
      for (const [result, words] of [
        ['notAuthorized', 'no access authority'],
        ['notSupported', 'not supported'],
        ['outOfRange', 'inconsistent parameters'],
        ['blocked', 'blocked by mode'],
        ['failed', 'aborted by loss of communication'],
      ] as const) {
        const pair = both({ server: { controlModel: model } }).start();
        pair.onControl = ({ token }) => ({
          ...{ type: 'controlResult', token, outcomes: [{ result, status: null, protocol: null }] },
        });
        pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'close' });
        expect(pair.steps().at(-1)).toContain(`refused: ${words}`);
      }
    const own = both().start();
    own.onControl = ({ token }) => ({
      ...{ type: 'controlResult', token, outcomes: [{ result: 'refused', status: 10, protocol: 'iec61850' }] },
    });
    own.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'close' });
    expect(own.steps().at(-1)).toContain('blocked by interlocking');
  });

  test('a select alone, then the operate: selected once', () => {
    const pair = both().start();
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'close', mode: 'selectOnly' });
    expect(pair.steps()).toEqual(['selectSent', 'selected']);
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'close' });
    expect(pair.steps()).toEqual(['operateSent', 'operated']);
    expect(pair.told.filter((one) => one.type === 'control').map(({ phase }) => phase)).toEqual(['select', 'operate']);
  });

  test('a select that is not operated, or with another value, is cancelled: others may have it', () => {
    const pair = both({ server: { selectMs: 600_000 } }).start();
    const cancels = (): number =>
      messagesOf(pair.sent.map(({ octets, fromClient }) => ({ octets, fromCaller: fromClient }))).writes.filter(
        (name) => name.endsWith('$Cancel'),
      ).length;
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'close', mode: 'selectOnly' });
    pair.run(20_000);
    expect(cancels()).toBe(0);
    pair.run(10_000);
    expect(cancels()).toBe(1);
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'close', mode: 'selectOnly' });
    expect(pair.steps()).toEqual(['selectSent', 'selected']);
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'trip' });
    expect([cancels(), pair.steps()]).toEqual([2, ['selectSent', 'selected', 'operateSent', 'operated']]);
  });

  test('a select runs out at the server, and the operate behind it is refused', () => {
    const pair = both({ server: { selectMs: 5000 } }).start();
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'close', mode: 'selectOnly' });
    pair.run(6000);
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'close' });
    expect(pair.steps().at(-1)).toContain('object not selected');
  });

  test('a setpoint', () => {
    const pair = both({ server: { controlModel: 'directEnhanced' } }).start();
    pair.control('HLM/GGIO1.AnOut1[CO]', 'setpoint', { counts: 12.5 });
    expect(pair.steps()).toEqual(['operateSent', 'operated']);
    expect(pair.told.filter((one) => one.type === 'control')[0].items).toMatchObject([
      { kind: 'setpoint', counts: 12.5 },
    ]);
  });

  test('the association is lost in the middle: nobody knows, and it is not sent again', () => {
    const pair = both({ server: { controlModel: 'directEnhanced' } }).start();
    pair.onControl = () => null;
    pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'close' });
    pair.cut();
    expect(pair.steps().at(-1)).toMatch(/^unknown: /);
    pair.start().run(5000);
    expect(pair.told.filter((one) => one.type === 'control')).toHaveLength(1);
  });
});

describe('a survey', () => {
  test('finds all points with value, quality, name and unit, and what can be operated', () => {
    const pair = both().start();
    pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', 3.5);
    pair.command({ type: 'survey', id: 's' });
    pair.run(500);
    const surveyed = pair.news.find((one) => one.type === 'surveyed');
    expect(surveyed).toMatchObject({ problem: null });
    const found = surveyed?.found ?? [];
    expect(found.find(({ address }) => address === 'HLM/GGIO1.AnIn1.mag.f[MX]')).toMatchObject({
      ...{ kind: 'analog', value: 3.5, words: '3.5', said: 'good', name: 'Current', unit: 'A' },
    });
    expect(found.filter(({ form }) => form === 'Oper').map(({ kind, address }) => `${kind} ${address}`)).toEqual([
      'setpoint HLM/GGIO1.AnOut1[CO]',
      'output HLM/XCBR1.Pos[CO]',
    ]);
    // As the list calls it, where that names a data object.
    expect(found.map(({ address }) => address)).toEqual(expect.arrayContaining(['HLM/GGIO1.CntRs1[ST]']));
    expect(found.map(({ address }) => address)).not.toContain('HLM/GGIO1.CntRs1.actVal[ST]');
    expect(found.find(({ address }) => address === 'HLM/GGIO1.AnIn1.mag.f[MX]')?.time).toBeGreaterThan(0);
    expect(surveyed?.attributes).toContainEqual({ name: 'vendor', text: 'Halvix' });
  });
});
