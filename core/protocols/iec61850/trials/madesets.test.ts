import { beforeEach, expect, test } from 'vitest';
import type { BlockSettings } from '../server/reportcontrol.ts';
import { bayText } from './bayfile.ts';
import { Both, listed, offered } from './both.ts';

const OFFERS = [
  offered('analog', 'BAY1/MMXU1.A.phsA[MX]', 'MV'),
  offered('analog', 'BAY1/MMXU1.TotW[MX]', 'MV'),
  offered('binary', 'BAY1/GGIO1.Ind1[ST]', 'SPS'),
  offered('binary', 'BAY1/GGIO1.Ind2[ST]', 'SPS'),
];
const POWER = listed(1, 'analog', 'BAY1/MMXU1.TotW.mag.f[MX]');
const PHASE = listed(2, 'analog', 'BAY1/MMXU1.A.phsA.cVal.mag.f[MX]');
const INDICATION = listed(3, 'binary', 'BAY1/GGIO1.Ind1.stVal[ST]');
const POLLED = listed(4, 'binary', 'BAY1/GGIO1.Ind2.stVal[ST]', 'poll');

/** A device whose blocks have no data set. */
const spare = (name: string, isBuffered: boolean): BlockSettings => ({
  ...{ device: 'BAY1', item: `LLN0$${isBuffered ? 'BR' : 'RP'}$${name}01`, isBuffered },
  ...{ reportId: '', dataSet: '', revision: 1, values: 1000 },
});
const modelFile = {
  name: 'bay.cid',
  text: bayText({ dataSets: [], logs: [], blocks: [spare('brcbFree', true), spare('urcbFree', false)] }),
};
let pair: Both;
beforeEach(() => {
  pair = new Both([POWER, PHASE, INDICATION, POLLED], OFFERS, { server: { modelFile } }).start();
});
const reports = (): (readonly string[])[] => pair.detail('reports').rows.map(({ cells }) => cells.slice(0, 3));
const events = (id: number): number[] =>
  pair
    .readings(id)
    .filter(({ event }) => event)
    .map(({ raw }) => raw);

test('what no data set carries gets one, in a block that has none; what is to be polled is polled', () => {
  expect(pair.client.ways).toEqual({ reported: 3, polled: 1, unreadable: 0 });
  expect(reports()).toEqual([['BAY1/LLN0$BR$brcbFree01', 'BAY1/LLN0$Hx_brcbFree01, made for us', '3']]);
  pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', 7);
  pair.update('analog', 'BAY1/MMXU1.A.phsA[MX]', 'MV', 262);
  pair.update('binary', 'BAY1/GGIO1.Ind1[ST]', 'SPS', 1);
  pair.run(300);
  expect([1, 2, 3].map((id) => pair.last(id))).toMatchObject([
    { raw: 7, quality: 0, event: true },
    { raw: 262, quality: 0, event: true },
    { raw: 1, quality: 0, event: true },
  ]);
});

test('it stays over a cut and in another session, with what its buffer held', () => {
  pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', 1);
  pair.run(200);
  pair.cut();
  for (const value of [2, 3, 4]) {
    pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', value);
    pair.run(100);
  }
  pair.renew(pair.keep);
  pair.start().run(500);
  expect(reports()).toEqual([['BAY1/LLN0$BR$brcbFree01', 'BAY1/LLN0$Hx_brcbFree01, made for us', '3']]);
  expect(events(1)).toEqual([1, 2, 3, 4]);
  expect(pair.words('diagnostic')).toEqual([]);
});

test('another list makes another in its place; none, and nothing is left in the device', () => {
  pair.command({ type: 'setPoints', points: [POWER, POLLED] });
  pair.run(500);
  expect(reports()).toEqual([['BAY1/LLN0$BR$brcbFree01', 'BAY1/LLN0$Hx_brcbFree01, made for us', '1']]);
  pair.update('analog', 'BAY1/MMXU1.TotW[MX]', 'MV', 9);
  pair.run(200);
  expect(events(1)).toEqual([9]);
  pair.command({ type: 'setPoints', points: [POLLED] });
  pair.run(500);
  expect(reports()).toEqual([]);
  // A data set that is not there cannot be deleted; the block is free for others.
  const other = new Both([INDICATION], OFFERS, { client: { originator: 'Other' } });
  [other.server, other.peer] = [pair.server, 50];
  other.start().run(500);
  expect(other.client.ways.reported).toBe(1);
});

test('two of us have a block each', () => {
  const other = new Both([INDICATION], OFFERS);
  [other.server, other.peer] = [pair.server, 50];
  other.start().run(500);
  expect(other.detail('reports').rows.map(({ key }) => key)).toEqual(['BAY1/LLN0$RP$urcbFree01']);
  expect(pair.client.ways.reported).toBe(3);
});

test('not wanted, it is not made: all is polled', () => {
  const own = new Both([POWER], OFFERS, { server: { modelFile }, client: { makeSets: false } }).start();
  expect(own.client.ways).toEqual({ reported: 0, polled: 1, unreadable: 0 });
});
