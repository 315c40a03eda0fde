import { beforeEach, describe, expect, test } from 'vitest';
import { INVALID, Quality } from '../../../point/index.ts';
import type { AnswerTable } from '../../client.ts';
import { bayText } from './bayfile.ts';
import { Both, listed, offered } from './both.ts';

const OFFERS = [
  offered('doubleBit', 'BAY1/CSWI1.Pos[ST]', 'DPC'),
  offered('output', 'BAY1/CSWI1.Pos[CO]', 'DPC'),
  offered('analog', 'BAY1/MMXU1.A.phsA[MX]', 'MV'),
  offered('analog', 'BAY1/MMXU1.A.phsB[MX]', 'MV'),
  offered('analog', 'BAY1/MMXU1.TotW[MX]', 'MV'),
  offered('binary', 'BAY1/GGIO1.Ind1[ST]', 'SPS'),
  offered('binary', 'BAY1/PTOC1.Op[ST]', 'SPS'),
  offered('setpoint', 'BAY1/GGIO1.AnOut1[CO]', 'APC'),
];
const LIST = [
  listed(1, 'doubleBit', 'BAY1/CSWI1.Pos.stVal[ST]'),
  listed(2, 'output', 'BAY1/CSWI1.Pos[CO]'),
  listed(3, 'analog', 'BAY1/MMXU1.A.phsA.cVal.mag.f[MX]'),
  listed(4, 'analog', 'BAY1/MMXU1.A.phsB.cVal.mag.f[MX]'),
  listed(5, 'analog', 'BAY1/MMXU1.TotW.mag.f[MX]'),
  listed(6, 'binary', 'BAY1/GGIO1.Ind1.stVal[ST]'),
  listed(7, 'binary', 'BAY1/GGIO1.Ind2.stVal[ST]'),
  listed(8, 'binary', 'BAY1/PTOC1.Op.general[ST]'),
  listed(9, 'setpoint', 'BAY1/GGIO1.AnOut1[CO]'),
];
let pair: Both;
beforeEach(() => {
  const modelFile = { name: 'bay.cid', text: bayText() };
  pair = new Both([...LIST], OFFERS, { server: { modelFile } }).start();
});
const cells = ({ rows }: AnswerTable): (readonly string[])[] => rows.map((row) => row.cells);
const tableOf = (pair_: Both, order: Parameters<Both['ask']>[0], title: RegExp): AnswerTable => {
  const { problem, answer } = pair_.ask(order);
  const found = answer.tables?.find((one) => title.test(one.title));
  if (found === undefined) throw new Error(problem ?? 'no such table');
  return found;
};

describe('a model from a file, with points mapped onto it', () => {
  test('is what the file says, and shows the points; what nothing is mapped onto is invalid', () => {
    expect(pair.client.ways).toEqual({ reported: 9, polled: 0, unreadable: 0 });
    expect((pair.last(7)?.quality ?? 0) & INVALID).not.toBe(0);
    pair.update('analog', 'BAY1/MMXU1.A.phsA[MX]', 'MV', 262.5);
    pair.update('analog', 'BAY1/MMXU1.A.phsB[MX]', 'MV', 261);
    pair.update('binary', 'BAY1/PTOC1.Op[ST]', 'SPS', 1, { quality: Quality.test });
    pair.update('doubleBit', 'BAY1/CSWI1.Pos[ST]', 'DPC', 2);
    const at = pair.now;
    pair.run(300);
    // The other phase is reported with it: of this one it is no change.
    expect(pair.last(3)).toEqual({ raw: 262.5, quality: 0, event: false, time: at });
    const events = pair.news.flatMap((one) => (one.type === 'readings' ? one.readings : []));
    expect(events.filter(({ id, event }) => id === 3 && event).map(({ raw }) => raw)).toEqual([262.5]);
    expect(pair.last(4)).toEqual({ raw: 261, quality: 0, event: true, time: at });
    expect(pair.last(8)).toMatchObject({ raw: 1, quality: Quality.test });
    expect(pair.last(1)).toMatchObject({ raw: 2, quality: 0 });
    const told = pair.told.flatMap((one) => (one.type === 'delivered' ? one.events.map(({ address }) => address) : []));
    expect(told).toContain('BAY1/MMXU1.A.phsA[MX]');
  });

  test('is operated by the models that the file gives, as far as something is mapped', () => {
    pair.control('BAY1/CSWI1.Pos[CO]', 'output', { operation: 'close' });
    expect(pair.steps()).toEqual(['selectSent', 'selected', 'operateSent', 'operated']);
    pair.control('BAY1/GGIO1.AnOut1[CO]', 'setpoint', { counts: 4.5 });
    expect(pair.steps()).toEqual(['operateSent', 'operated']);
    const asked = pair.told
      .filter((one) => one.type === 'control')
      .map(({ phase, items }) => [phase, items[0].address]);
    expect(asked).toEqual([
      ['select', 'BAY1/CSWI1.Pos[CO]'],
      ['operate', 'BAY1/CSWI1.Pos[CO]'],
      ['direct', 'BAY1/GGIO1.AnOut1[CO]'],
    ]);
  });

  test('a file that is none is said, and the model is made of what is mapped', () => {
    const own = new Both([], OFFERS.slice(5, 6), { server: { modelFile: { name: 'x.cid', text: '<SCL>' } } }).start();
    expect(own.told).toContainEqual(expect.objectContaining({ type: 'diagnostic' }));
    expect(own.ask({ what: 'overview' }).problem).toBeNull();
  });
});

describe('setting groups', () => {
  test('are told, read, switched and edited; nothing of an edit that is refused stays', () => {
    const groups = (): readonly string[] => tableOf(pair, { what: 'overview' }, /^Setting groups/).rows[0].cells;
    expect(groups().slice(0, 4)).toEqual(['BAY1', '1', '3', 'none']);
    const values = (group: number): (readonly string[])[] =>
      cells(tableOf(pair, { what: 'groupValues', device: 'BAY1', group }, new RegExp(`^Group ${group} of`)));
    expect(values(1)).toEqual([
      ['BAY1/PTOC1.OpDlTmms.setVal[SG]', 'delay of the trip', '400'],
      ['BAY1/PTOC1.StrVal.setMag.f[SG]', 'start value', '480'],
    ]);
    expect(values(3).map(([, , value]) => value)).toEqual(['200', '640']);
    expect(pair.ask({ what: 'useGroup', device: 'BAY1', group: 2 }).problem).toBeNull();
    expect(groups().slice(0, 4)).toEqual(['BAY1', '2', '3', 'none']);
    expect(values(2).map(([, , value]) => value)).toEqual(['300', '560']);
    const set = { what: 'setInGroup', device: 'BAY1', group: 2, reference: 'BAY1/PTOC1.StrVal.setMag.f[SE]' } as const;
    expect(pair.ask({ ...set, value: '575.5' }).problem).toBeNull();
    // It is the one in use: what works is changed with it.
    expect(values(2)[1][2]).toBe('575.5');
    expect(values(1)[1][2]).toBe('480');
    expect(pair.ask({ ...set, value: 'much' }).problem).toContain('"much" is no number; nothing was sent');
    expect(pair.ask({ ...set, reference: 'BAY1/PTOC1.None[SE]', value: '1' }).problem).toContain('is not there');
    expect(pair.ask({ what: 'useGroup', device: 'BAY1', group: 4 }).problem).toBe(
      'group 4 of BAY1: the value is not valid',
    );
    expect(groups().slice(0, 4)).toEqual(['BAY1', '2', '3', 'none']);
  });

  test('what somebody edits is seen by nobody else, who cannot edit meanwhile; it ends with its client', () => {
    // Another client of the same server, which begins to edit and stays there.
    const { server } = pair;
    const other = new Both([listed(1, 'setpoint', 'BAY1/LLN0.SGCB.EditSG[SP]')], []);
    [other.server, other.peer] = [server, 50];
    other.start();
    const write = (value: number): void =>
      other.control('BAY1/LLN0.SGCB.EditSG[SP]', 'setpoint', { counts: value, mode: 'direct' });
    write(1);
    expect(other.steps().at(-1)).toBe('operated');
    const refused = pair.ask({ what: 'groupValues', device: 'BAY1', group: 3 }).problem;
    expect(refused).toBe('editing group 3 of BAY1: not to be had at the moment');
    other.cut();
    pair.now = Math.max(pair.now, other.now);
    expect(pair.ask({ what: 'groupValues', device: 'BAY1', group: 3 }).problem).toBeNull();
  });
});

test('a log has what has changed, with times and reasons, and is read by time', () => {
  expect(tableOf(pair, { what: 'overview' }, /^Logs/).rows[0].cells.slice(0, 2)).toEqual(['BAY1/LLN0$EventLog', 'yes']);
  pair.update('binary', 'BAY1/GGIO1.Ind1[ST]', 'SPS', 1);
  pair.run(600_000);
  for (const value of [0, 1, 0]) {
    pair.update('binary', 'BAY1/GGIO1.Ind1[ST]', 'SPS', value);
    pair.run(1000);
  }
  const log = { what: 'readLog', log: 'BAY1/LLN0$EventLog' } as const;
  const rows = cells(tableOf(pair, { ...log, minutes: 5 }, /EventLog/));
  expect(rows.map(([, ...cells_]) => cells_)).toEqual(
    ['false', 'true', 'false'].map((value) => ['BAY1/GGIO1.Ind1[ST]', value, 'good', 'data change']),
  );
  expect(cells(tableOf(pair, { ...log, minutes: 60 }, /EventLog/)).length).toBeGreaterThan(3);
  expect(pair.ask({ ...log, log: 'BAY1/LLN0$None', minutes: 5 }).problem).toBe('BAY1/LLN0$None: no such object');
});

test('a long log comes in as many parts as it takes, once each', () => {
  for (let n = 0; n < 900; n++) pair.update('binary', 'BAY1/GGIO1.Ind1[ST]', 'SPS', n % 2);
  pair.run(1000);
  const { answer } = pair.ask({ what: 'readLog', log: 'BAY1/LLN0$EventLog', minutes: 5 });
  const requests = pair.sent.length;
  expect(answer.tables?.[0].rows.length).toBeGreaterThanOrEqual(899);
  expect(new Set(answer.tables?.[0].rows.map(({ cells: [time] }) => time)).size).toBeGreaterThan(0);
  expect(requests).toBeGreaterThan(2);
});

describe('a value that is replaced or held at the device', () => {
  const shown = (): readonly string[] | undefined =>
    tableOf(pair, { what: 'replaceable', device: 'BAY1' }, /^Values of BAY1/).rows.find(({ cells: [object] }) =>
      object.endsWith('TotW'),
    )?.cells;

  test('is replaced until it is let go, and shows what the process has then', () => {
    pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', 7);
    pair.run(200);
    expect(shown()).toEqual(['BAY1/MMXU1.TotW', '7', 'good', '']);
    expect(pair.ask({ what: 'replace', reference: 'BAY1/MMXU1.TotW', value: '3.5' }).problem).toBeNull();
    pair.run(200);
    expect(pair.last(5)).toMatchObject({ raw: 3.5, quality: Quality.forcedAtDevice, event: true });
    pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', 8);
    pair.run(200);
    expect(pair.last(5)?.raw).toBe(3.5);
    expect(shown()).toEqual(['BAY1/MMXU1.TotW', '3.5', 'good, substituted', 'replaced']);
    expect(pair.ask({ what: 'letGo', reference: 'BAY1/MMXU1.TotW' }).problem).toBeNull();
    pair.run(200);
    expect(pair.last(5)).toMatchObject({ raw: 8, quality: 0, event: true });
  });

  test('is held as it is, and changes again', () => {
    pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', 7);
    pair.run(200);
    expect(pair.ask({ what: 'block', reference: 'BAY1/MMXU1.TotW', on: true }).problem).toBeNull();
    pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', 9);
    pair.run(200);
    expect(pair.last(5)).toMatchObject({ raw: 7, quality: Quality.blocked | Quality.old });
    expect(pair.ask({ what: 'block', reference: 'BAY1/MMXU1.TotW', on: false }).problem).toBeNull();
    pair.run(200);
    expect(pair.last(5)).toMatchObject({ raw: 9, quality: 0 });
  });

  test('who may not operate may not do that either, nor switch or edit setting groups', () => {
    pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', 7);
    pair.run(200);
    pair.serve({ type: 'rights', peer: pair.peer, operates: false });
    for (const order of [
      { what: 'replace', reference: 'BAY1/MMXU1.TotW', value: '3.5' },
      { what: 'block', reference: 'BAY1/MMXU1.TotW', on: true },
      { what: 'useGroup', device: 'BAY1', group: 2 },
      { what: 'groupValues', device: 'BAY1', group: 3 },
    ] as const)
      expect(pair.ask(order).problem).toMatch(/denied|refused/);
    pair.run(200);
    expect(pair.last(5)).toMatchObject({ raw: 7, quality: 0 });
    expect(pair.told).toContainEqual({
      type: 'diagnostic',
      words: 'BAY1/LLN0.SGCB.ActSG[SP] was written by who may not operate',
    });
    pair.serve({ type: 'rights', peer: pair.peer, operates: true });
    expect(pair.ask({ what: 'useGroup', device: 'BAY1', group: 2 }).problem).toBeNull();
    expect(pair.told).toContainEqual({ type: 'noted', words: 'BAY1/LLN0.SGCB.ActSG[SP] set to 2 by 127.0.0.9' });
  });

  test('is let go by an order of somebody at the server', () => {
    pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', 7);
    pair.run(200);
    pair.ask({ what: 'replace', reference: 'BAY1/MMXU1.TotW', value: '3.5' });
    pair.run(200);
    expect(pair.last(5)?.raw).toBe(3.5);
    pair.serve({ type: 'order', order: 'releaseValues' });
    pair.run(200);
    expect(pair.last(5)).toMatchObject({ raw: 7, quality: 0 });
    expect(shown()?.[3]).toBe('');
    pair.serve({ type: 'order', order: 'releaseValues' });
    expect(pair.told.flatMap((one) => (one.type === 'ordered' ? one.words : []))).toEqual([
      '1 value follows its device again',
      '0 values follow their devices again',
    ]);
  });

  test('what cannot be replaced is said', () => {
    expect(pair.ask({ what: 'replace', reference: 'BAY1/XCBR1.Pos', value: '1' }).problem).toContain(
      'has nothing that replaces its value; nothing was sent',
    );
  });
});

test('all attributes are told, with configuration and control blocks, and what is not to be had says so', () => {
  const rows = new Map(
    cells(tableOf(pair, { what: 'attributes', device: 'BAY1' }, /^Attributes/)).map(([a, b]) => [a, b]),
  );
  expect(rows.get('BAY1/CSWI1.Pos.ctlModel[CF]')).toBe('4');
  expect(rows.get('BAY1/LLN0.brcbStatus01.RptEna[BR]')).toBe('true');
  expect(rows.get('BAY1/LLN0.SGCB.NumOfSG[SP]')).toBe('3');
  expect(rows.get('BAY1/GGIO1.Ind1.q[ST]')).toBe('invalid');
  expect([...rows.keys()].some((reference) => reference.endsWith('[CO]'))).toBe(false);
  expect(pair.ask({ what: 'attributes', device: 'NONE' }).answer.tables?.[0].rows).toEqual([]);
});
