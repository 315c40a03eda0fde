import { beforeEach, describe, expect, test } from 'vitest';
import { Quality } from '../../../point/index.ts';
import { Both, listed, offered } from './both.ts';

const OFFERS = [
  offered('analog', 'TIE_MW', 'RealQTimeTag'),
  offered('binary', 'LINE', 'StateQTimeTag'),
  offered('doubleBit', 'BREAKER', 'State'),
  offered('counter', 'ENERGY', 'DiscreteExtended'),
  offered('analog', 'HZ', 'RealQTimeTagExtended', { scope: 'centre' }),
  offered('output', 'TRIP', 'Command', { select: true }),
  offered('output', 'LAMP', 'Command'),
  offered('setpoint', 'LIMIT', 'SetpointReal'),
  offered('setpoint', 'STEPS', 'SetpointDiscrete'),
];
const LIST = [
  listed(1, 'analog', 'HALVIX/TIE_MW'),
  listed(2, 'binary', 'HALVIX/LINE'),
  listed(3, 'doubleBit', 'HALVIX/BREAKER'),
  listed(4, 'counter', 'HALVIX/ENERGY'),
  listed(5, 'analog', 'HZ'),
  listed(6, 'output', 'HALVIX/TRIP'),
  listed(7, 'setpoint', 'HALVIX/LIMIT'),
];
let pair: Both;
beforeEach(() => {
  pair = new Both([...LIST], OFFERS, { server: { bilateralTable: 'TABLE-7' } }).start().run(500);
});
const events = (id: number): number[] =>
  pair
    .readings(id)
    .filter(({ event }) => event)
    .map(({ raw }) => raw);

describe('a peer that reports', () => {
  test('brings all present values, then each change with its quality and its time', () => {
    expect(pair.client.ways).toEqual({ reported: 5, polled: 0 });
    expect(pair.client.indications).toEqual(['version 2000.8, conformance blocks 1, 2, 4, 5, bilateral table TABLE-7']);
    expect([1, 2, 3, 4, 5].map((id) => pair.last(id)?.event)).toEqual([false, false, false, false, false]);
    const at = Math.floor(pair.now / 1000) * 1000 + 250;
    pair.update('TIE_MW', 41.5, { time: at });
    pair.update('LINE', 1, { time: at, quality: Quality.chatter });
    pair.update('BREAKER', 2);
    pair.update('ENERGY', 4_711, { time: at });
    pair.update('HZ', 49.5, { time: at });
    pair.run(200);
    // Whole seconds are all that a time tag has; the extended one has the rest.
    expect(pair.last(1)).toEqual({ raw: 41.5, quality: 0, event: true, time: at - 250 });
    expect(pair.last(2)).toEqual({ raw: 1, quality: Quality.saidQuestionable, event: true, time: at - 250 });
    expect(pair.last(3)).toMatchObject({ raw: 2, quality: 0, event: true, time: null });
    expect(pair.last(4)).toMatchObject({ raw: 4711, event: true, time: at - 250 });
    expect(pair.last(5)).toEqual({ raw: 49.5, quality: 0, event: true, time: at });
    expect(pair.words('diagnostic')).toEqual([]);
    expect(pair.told.filter(({ type }) => type === 'delivered').length).toBeGreaterThan(0);
  });

  test('tells every change by itself, in order, however many come at once', () => {
    for (let n = 1; n <= 40; n++) pair.update('TIE_MW', n);
    pair.run(500);
    expect(events(1)).toEqual(Array.from({ length: 40 }, (_, n) => n + 1));
    expect(pair.detail('transferSets').rows[0].cells.at(-1)).toBe('1 of 5 (object change)');
    expect(pair.detail('transferSets').rows[0].more?.rows).toEqual([['HALVIX/TIE_MW', '39, valid', '40, valid']]);
  });

  test('gathers changes for its buffer time, and says everything at each integrity time-out', () => {
    const own = new Both([LIST[0], LIST[1]], OFFERS, { client: { bufferMs: 2000, integrityMs: 10_000 } })
      .start()
      .run(500);
    const began = own.now;
    own.update('TIE_MW', 5);
    own.run(1000);
    expect(own.last(1)?.raw).toBe(0);
    own.run(1500);
    expect(own.last(1)).toMatchObject({ raw: 5, event: true });
    const before = own.readings(2).length;
    own.run(30_000);
    // Two objects every ten seconds, none of it a change.
    expect(own.readings(2).length - before).toBe(3);
    expect(own.readings(2).at(-1)?.event).toBe(false);
    expect(own.now - began).toBe(32_500);
  });

  test('critical: each report is acknowledged once it is stored; a repeated one is not stored again', () => {
    const own = new Both([LIST[0], LIST[1]], OFFERS, { client: { critical: true } }).start().run(500);
    own.update('TIE_MW', 5);
    own.update('TIE_MW', 6);
    own.run(500);
    expect(
      own
        .readings(1)
        .filter(({ event }) => event)
        .map(({ raw }) => raw),
    ).toEqual([5, 6]);
    // Our acknowledgements are lost for a while.
    own.mute = true;
    own.update('TIE_MW', 7);
    own.update('TIE_MW', 8);
    own.run(25_000);
    expect(
      own
        .readings(1)
        .filter(({ event }) => event)
        .map(({ raw }) => raw),
    ).toEqual([5, 6, 7]);
    own.mute = false;
    own.run(15_000);
    expect(
      own
        .readings(1)
        .filter(({ event }) => event)
        .map(({ raw }) => raw),
    ).toEqual([5, 6, 7, 8]);
  });

  test('that restarts gives its transfer sets again by itself, and nothing is asked for twice meanwhile', () => {
    pair.restartServer().start().run(500);
    expect(pair.client.ways).toEqual({ reported: 5, polled: 0 });
    pair.update('TIE_MW', 7);
    pair.run(200);
    expect(events(1)).toEqual([7]);
  });

  test('another list: what was reported for the one before is let go of', () => {
    pair.command({ type: 'setPoints', points: [LIST[0]] });
    pair.run(500);
    expect(pair.detail('transferSets').rows.map(({ cells }) => cells[2])).toEqual(['1']);
    pair.update('LINE', 1);
    pair.update('TIE_MW', 3);
    pair.run(200);
    expect(events(1)).toEqual([3]);
    expect(pair.readings(2).filter(({ event }) => event)).toEqual([]);
  });

  test('without a free transfer set is read, and tried for again', () => {
    const own = new Both(LIST.slice(0, 5), OFFERS, {
      server: { transferSets: 1 },
      client: { setPoints: 3, pollMs: 1000 },
    });
    own.start().run(500);
    expect(own.client.ways).toEqual({ reported: 3, polled: 2 });
    expect(own.words('noted').join()).toContain('2 points are read, not reported');
    own.update('ENERGY', 9);
    own.run(1500);
    expect(own.last(4)).toMatchObject({ raw: 9, event: false });
  });

  test('with another bilateral table is asked for nothing', () => {
    const own = new Both([...LIST], OFFERS, {
      client: { bilateralTable: 'OTHER' },
      server: { bilateralTable: 'TABLE-7' },
    });
    own.start().run(500);
    const last = own.news.filter((one) => one.type === 'communication').at(-1);
    expect(last).toMatchObject({ state: 'silent', words: 'the peer has the bilateral table TABLE-7, ours is OTHER' });
    expect(own.readings(1)).toEqual([]);
  });

  test('is refused without the password, and taken with it', () => {
    const server = { password: 'open sesame' };
    const without = new Both([...LIST], OFFERS, { server }).start().run(500);
    expect(without.news.some((one) => one.type === 'communication' && one.state === 'answering')).toBe(false);
    const withIt = new Both([...LIST], OFFERS, { server, client: server }).start().run(500);
    expect(withIt.client.ways.reported).toBe(5);
  });
});

describe('controls', () => {
  test('wait for an association that is made anew, and go out once', () => {
    pair.cut();
    pair.control('HALVIX/LAMP', 'output', { operation: 'latchOn' });
    expect(pair.steps()).toEqual([]);
    pair.start();
    expect(pair.steps()).toEqual(['operateSent', 'operated']);
    expect(pair.told.filter((one) => one.type === 'control')).toHaveLength(1);
  });

  test('end with their time where it does not come, and fail where the peer is silent', () => {
    pair.cut();
    pair.control('HALVIX/LAMP', 'output', { operation: 'latchOn', expiresAt: pair.now + 1000 });
    pair.run(1000);
    expect(pair.steps()).toEqual(['expired: it had expired before it was sent']);
    pair.run(120_000);
    pair.control('HALVIX/LAMP', 'output', { operation: 'latchOn' });
    expect(pair.steps().at(-1)).toBe('failed: the device does not answer; nothing was sent');
    pair.start();
    expect(pair.told.filter((one) => one.type === 'control')).toEqual([]);
  });

  test('what has to be selected is selected, then operated', () => {
    pair.control('HALVIX/TRIP', 'output', { operation: 'trip' });
    expect(pair.steps()).toEqual(['selectSent', 'selected', 'operateSent', 'operated']);
    const [asked] = pair.told.filter((one) => one.type === 'control');
    expect(asked).toMatchObject({ phase: 'operate', items: [{ kind: 'output', on: false }] });
  });

  test('the others at once, and set points as they are', () => {
    pair.control('HALVIX/LAMP', 'output', { operation: 'latchOn' });
    expect(pair.steps()).toEqual(['operateSent', 'operated']);
    pair.control('HALVIX/LIMIT', 'setpoint', { counts: 12.5 });
    pair.control('HALVIX/STEPS', 'setpoint', { counts: 4 });
    const asked = pair.told.filter((one) => one.type === 'control').map(({ items }) => items[0].counts);
    expect(asked).toEqual([null, 12.5, 4]);
    pair.control('HALVIX/STEPS', 'setpoint', { counts: 7.5 });
    expect(pair.steps().at(-1)).toBe('failed: 7.5 is no whole number, and STEPS takes no other; nothing was sent');
  });

  test('a select runs out, and is for one association alone', () => {
    const own = new Both([...LIST], OFFERS, { server: { selectMs: 2000 } }).start().run(200);
    own.control('HALVIX/TRIP', 'output', { operation: 'trip', mode: 'selectOnly' });
    expect(own.steps()).toEqual(['selectSent', 'selected']);
    const other = new Both([LIST[5]], OFFERS);
    [other.server, other.peer] = [own.server, 50];
    other.start().run(100);
    other.control('HALVIX/TRIP', 'output', { operation: 'trip' });
    expect(other.steps().at(-1)).toContain('select: not to be had at the moment');
    expect(own.told.concat(other.told).filter((one) => one.type === 'control')).toEqual([]);
  });

  test('what its device says comes back', () => {
    pair.onControl = ({ token }) => ({
      ...{ type: 'controlResult', token },
      outcomes: [{ result: 'refused', status: 7, protocol: 'x', refusal: 'outOfRange' }],
    });
    pair.control('HALVIX/LIMIT', 'setpoint', { counts: 99 });
    expect(pair.steps().at(-1)).toBe('refused: HALVIX/LIMIT: the value is not valid');
  });
});

describe('two associations of one peer', () => {
  test('have data sets of their own, and none takes the other one’s away', () => {
    const other = new Both([listed(1, 'analog', 'HALVIX/TIE_MW')], OFFERS, { code: 'NMK-B' });
    [other.server, other.peer] = [pair.server, 60];
    other.start().run(500);
    const setsOf = (one: Both): string => one.detail('transferSets').rows[0].cells[1];
    expect([setsOf(pair), setsOf(other)]).toEqual(['HALVIX/Hx_DataSet1', 'HALVIX/Hx_NMK_B_1']);
    // One that would be called the same has its points by reading, and leaves the first one alone.
    const same = new Both([listed(1, 'analog', 'HALVIX/TIE_MW')], OFFERS);
    [same.server, same.peer] = [pair.server, 70];
    same.start().run(500);
    expect(same.client.ways).toEqual({ reported: 0, polled: 1 });
    expect(same.words('noted').join()).toContain('data set Hx_DataSet1');
    expect(pair.server.details[0].rows.filter(({ cells }) => cells[6] === 'enabled')).toHaveLength(2);
  });
});

describe('messages', () => {
  const tell = (text: string): string => {
    pair.serve({ type: 'order', order: 'message', text });
    pair.run(50);
    const last = pair.told.filter((one) => one.type === 'ordered').at(-1);
    return last?.type === 'ordered' ? last.words : '';
  };
  test('are told to whoever wants them, and written down', () => {
    expect(tell('Tie opens at 14:00')).toBe('told 1 peer');
    expect(tell('Über 20 MW')).toBe('told 1 peer');
    expect(pair.words('noted')).toEqual(['message 1/0/1: Tie opens at 14:00', 'message 1/0/2: Über 20 MW']);
    expect(pair.detail('information').rows.map(({ cells }) => cells)).toEqual([
      ['1/0/2', 'Über 20 MW'],
      ['1/0/1', 'Tie opens at 14:00'],
    ]);
  });

  test('not to one that does not, nor beyond what goes into one; a flood is not written down word for word', () => {
    expect(tell('')).toBe('there is nothing in it');
    expect(tell('x'.repeat(8001))).toBe('it has 8001 octets, at most 8000 go');
    for (let n = 0; n < 60; n++) tell(`flood ${n}`);
    expect(pair.words('noted').length).toBeLessThan(20);
    expect(pair.detail('information').rows).toHaveLength(20);
    const own = new Both([LIST[0]], OFFERS, { client: { messages: false } }).start().run(500);
    own.serve({ type: 'order', order: 'message', text: 'anybody' });
    expect(own.told.filter((one) => one.type === 'ordered').at(-1)).toMatchObject({ words: 'nobody wants messages' });
  });
});

describe('blocked transfers', () => {
  const packed = (client: object, server: object): Both =>
    new Both([...LIST], OFFERS, { client: { blocked: true, integrityMs: 10_000, ...client }, server }).start().run(500);

  test('bring the same values, whole and by exception, in fewer octets', () => {
    const own = packed({}, { blocked: true });
    const plain = new Both([...LIST], OFFERS, { client: { integrityMs: 10_000 } }).start().run(500);
    for (const one of [own, plain]) {
      one.update('TIE_MW', 41.5, { time: Math.floor(one.now / 1000) * 1000, quality: Quality.chatter });
      one.update('BREAKER', 2);
      one.update('ENERGY', -7);
      one.update('HZ', 49.5);
      one.run(20_000);
      expect(one.client.ways).toEqual({ reported: 5, polled: 0 });
    }
    for (const id of [1, 2, 3, 4, 5]) expect(own.readings(id)).toEqual(plain.readings(id));
    expect(own.last(1)).toMatchObject({ raw: 41.5, quality: Quality.saidQuestionable });
    const octets = (one: Both): number =>
      one.sent.reduce((sum, sent) => sum + (sent.fromClient ? 0 : sent.octets.length), 0);
    expect(octets(own)).toBeLessThan(octets(plain));
    expect(own.client.counters.values.unusable).toBe(0);
  });

  test('are not asked of a peer that has none, and end with the first that is not understood', () => {
    const without = packed({}, {});
    without.update('TIE_MW', 5);
    without.run(100);
    expect([without.client.ways.reported, without.last(1)?.raw]).toEqual([5, 5]);
    const own = packed({}, { blocked: true });
    // One that packs in another way.
    own.server['packed'] = () => Uint8Array.of(7, 1, 2, 3);
    own.update('TIE_MW', 6);
    own.run(1000);
    own.update('TIE_MW', 7);
    own.run(1000);
    expect(own.words('diagnostic')).toEqual([
      'its reports are packed in another way than ours: they come as they are now',
    ]);
    expect([own.client.ways.reported, own.last(1)?.raw]).toEqual([5, 7]);
  });
});

describe('tags', () => {
  const TAGGED = [
    offered('output', 'CB', 'Command', { select: true, tag: true }),
    offered('output', 'LAMP', 'Command'),
  ];
  const POINTS = [listed(1, 'output', 'HALVIX/CB'), listed(2, 'output', 'HALVIX/LAMP')];
  let own: Both;
  const tag = (inhibits: 'nothing' | 'open and close' | 'close', reason = 'crew on the line') =>
    own.ask({ what: 'tag', point: 'HALVIX/CB', inhibits, reason });
  const operate = (operation: 'trip' | 'close'): string => {
    own.control('HALVIX/CB', 'output', { operation });
    own.run(100);
    return own.steps().at(-1) ?? '';
  };
  const noted = (): string[] => own.told.flatMap((one) => (one.type === 'noted' ? [one.words] : []));
  beforeEach(() => {
    own = new Both([...POINTS], TAGGED).start().run(500);
  });

  test('are told for what has one, with what can be done about it', () => {
    const { answer, problem } = own.ask({ what: 'tags' });
    expect(problem).toBeNull();
    expect(answer.tables?.[0].rows.map(({ cells }) => cells)).toEqual([['HALVIX/CB', 'no tag']]);
    expect(answer.tables?.[0].rows[0].asks?.map(({ words }) => words)).toEqual([
      'inhibit open and close…',
      'inhibit close…',
    ]);
  });

  test('inhibit closing, or both ways, and say so to whoever is refused', () => {
    expect(tag('close')).toMatchObject({
      problem: null,
      answer: { words: 'tagged, inhibits close: crew on the line' },
    });
    expect(operate('trip')).toBe('operated');
    expect(operate('close')).toBe('refused: HALVIX/CB: access denied; tagged, inhibits close: crew on the line');
    tag('open and close', 'test');
    expect(operate('trip')).toBe('refused: select: access denied; tagged, inhibits open and close: test');
    tag('nothing');
    expect(operate('close')).toBe('operated');
    expect(noted()).toContain('a control of CB was refused: tagged, inhibits close: crew on the line');
    expect(noted()).toContain('CB: no tag, said by 127.0.0.9');
  });

  test('are there after a restart, and take a selection away', () => {
    own.control('HALVIX/CB', 'output', { operation: 'close', mode: 'selectOnly' });
    tag('open and close');
    own.restartServer().start().run(500);
    expect(operate('close')).toContain('tagged, inhibits open and close');
    own.serve({ type: 'order', order: 'takeTagsOff' });
    expect(own.told.filter((one) => one.type === 'ordered').at(-1)).toMatchObject({ words: '1 taken off' });
    own.restartServer(true).start().run(500);
    expect(operate('close')).toBe('operated');
  });

  test('are set by nobody who may not operate, and on nothing that has none', () => {
    const closed = new Both([...POINTS], [{ ...TAGGED[0], mayOperate: false }]).start().run(500);
    const order = { what: 'tag', point: 'HALVIX/CB', inhibits: 'close', reason: '' } as const;
    expect(closed.ask(order).problem).toBe('HALVIX/CB_TAG: access denied');
    expect(own.ask({ ...order, point: 'HALVIX/LAMP' }).problem).toBe('point: HALVIX/LAMP has no tag there');
    expect(own.ask({ ...order, point: 'HALVIX/NONE' }).problem).toBe('point: there is no HALVIX/NONE in the list');
    expect(noted()).toEqual([]);
  });

  test('a local reset takes selections back', () => {
    own.control('HALVIX/CB', 'output', { operation: 'close', mode: 'selectOnly' });
    const reset = (): string => {
      own.serve({ type: 'order', order: 'localReset' });
      const last = own.told.filter((one) => one.type === 'ordered').at(-1);
      return last?.type === 'ordered' ? last.words : '';
    };
    expect([reset(), reset()]).toEqual(['1 taken back', 'nothing was selected']);
  });
});

describe('what a session knows beside its points', () => {
  test('the reports that came lately, with their values, the newest first', () => {
    pair.update('TIE_MW', 1);
    pair.update('LINE', 1);
    pair.update('TIE_MW', 2);
    pair.run(100);
    const [row] = pair.detail('transferSets').rows;
    expect(row.past?.slice(0, 2).map(({ words, values }) => [words, values.length])).toEqual([
      ['object change', 1],
      ['object change', 1],
    ]);
    expect(row.past?.[0].values[0]).toEqual(['HALVIX/TIE_MW', expect.stringMatching(/^2, valid/)]);
    expect(row.past?.at(-1)).toMatchObject({ words: 'integrity time-out' });
    expect(row.past?.at(-1)?.values).toHaveLength(5);
  });

  test('that a transfer set is overdue, at its client; and what the server has for each', () => {
    const own = new Both([LIST[0]], OFFERS, { client: { integrityMs: 10_000 } }).start().run(15_000);
    expect(own.detail('transferSets').rows[0].cells[3]).toBe('enabled');
    const [set] = own.server.details[0].rows;
    expect(set.cells.slice(0, 5)).toEqual([
      'DSTransferSet01',
      '127.0.0.9',
      'HALVIX/Hx_DataSet1',
      'integrity time-out, object change',
      '',
    ]);
    expect(own.server.details[0].rows[1].cells[6]).toBe('free');
    // It answers, and reports no more.
    for (const one of own.server['sets']) one.left(own.peer);
    own.run(40_000);
    expect(own.detail('transferSets').rows[0]).toMatchObject({ cells: { 3: 'overdue' }, odd: [3] });
  });
});

describe('what the agreement does not name', () => {
  test('does not exist, whatever service asks for it', () => {
    const own = new Both([listed(1, 'analog', 'HALVIX/SECRET')], OFFERS).start().run(500);
    expect(own.client.ways).toEqual({ reported: 0, polled: 1 });
    const unreadable = own.news.filter((one) => one.type === 'unreadable').at(-1);
    expect(unreadable).toMatchObject({ points: [1], words: 'HALVIX/SECRET: no such object' });
    own.control('HALVIX/SECRET', 'output', { operation: 'close' });
    expect(own.steps().at(-1)).toBe('refused: HALVIX/SECRET: no such object');
    own.control('HALVIX/TIE_MW', 'output', { operation: 'close' });
    expect(own.steps().at(-1)).toBe('refused: HALVIX/TIE_MW: access denied');
  });

  test('a survey finds what there is, and nothing of the protocol’s own', () => {
    pair.update('TIE_MW', 5);
    pair.command({ type: 'survey', id: 's' });
    pair.run(1000);
    const found = pair.news.find((one) => one.type === 'surveyed')?.found ?? [];
    expect(found.map(({ kind, address }) => `${kind} ${address}`)).toEqual([
      'doubleBit HALVIX/BREAKER',
      'analog HALVIX/ENERGY',
      'output HALVIX/LAMP',
      'analog HALVIX/LIMIT',
      'doubleBit HALVIX/LINE',
      'analog HALVIX/STEPS',
      'analog HALVIX/TIE_MW',
      'output HALVIX/TRIP',
      'analog HZ',
    ]);
    expect(found.find(({ address }) => address === 'HALVIX/TIE_MW')).toMatchObject({ value: 5, said: 'valid' });
  });
});
