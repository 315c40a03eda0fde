import { afterEach, describe, expect, test } from 'vitest';
import { AGREEMENT } from '../../mms/settings.ts';
import { Both, listed, offered } from './both.ts';

/* Devices whose messages are short: what does not fit one is asked for in parts. */

const usual = { ...AGREEMENT };
afterEach(() => void Object.assign(AGREEMENT, usual));

const numbers = (count: number): number[] => Array.from({ length: count }, (_, n) => n + 1);
const INDICATIONS = numbers(160);
const MEASURED = numbers(33);
const OFFERS = [
  ...INDICATIONS.map((n) => offered('binary', `HLM/GGIO1.Ind${n}[ST]`, 'SPS')),
  ...MEASURED.map((n) => offered('analog', `HLM/GGIO2.AnIn${n}[MX]`, 'MV')),
];
const LIST = [
  ...INDICATIONS.map((n) => listed(n, 'binary', `HLM/GGIO1.Ind${n}.stVal[ST]`)),
  ...MEASURED.map((n) => listed(1000 + n, 'analog', `HLM/GGIO2.AnIn${n}.mag.f[MX]`)),
];

function begin(size: number, client: object): Both {
  Object.assign(AGREEMENT, { size });
  const pair = new Both([...LIST], OFFERS, { client });
  pair.start();
  for (const n of INDICATIONS) pair.update('binary', `HLM/GGIO1.Ind${n}[ST]`, 'SPS', n % 2);
  for (const n of MEASURED) pair.update('analog', `HLM/GGIO2.AnIn${n}[MX]`, 'MV', n * 1.5);
  return pair.run(8000);
}
const unreadable = (pair: Both): readonly number[] =>
  pair.news.flatMap((one) => (one.type === 'unreadable' ? [one.points] : [])).at(-1) ?? [];

describe.each([420, 1000, 8000])('messages of %i octets', (size) => {
  test.each([
    ['reported', { pollMs: 1000 }],
    ['polled', { pollMs: 1000, reports: 'none' }],
  ])('all points are %s', (_way, client) => {
    const pair = begin(size, client);
    expect(INDICATIONS.filter((n) => pair.last(n)?.raw !== n % 2)).toEqual([]);
    expect(MEASURED.filter((n) => pair.last(1000 + n)?.raw !== n * 1.5)).toEqual([]);
    expect(unreadable(pair)).toEqual([]);
    const longest = Math.max(...pair.sent.map(({ octets }) => octets.length));
    // With what stands around a message.
    expect(longest).toBeLessThan(size + 60);
  });

  test('a survey finds them all', () => {
    const pair = begin(size, { pollMs: 0, reports: 'none' });
    pair.command({ type: 'survey', id: 's' });
    pair.run(8000);
    const surveyed = pair.news.find((one) => one.type === 'surveyed');
    const found = surveyed?.type === 'surveyed' ? surveyed.found : [];
    expect(
      found.filter(({ address }) => address.startsWith('HLM/GGIO1.Ind') && address.endsWith('.stVal[ST]')),
    ).toHaveLength(160);
    const second = found.find(({ address }) => address === 'HLM/GGIO2.AnIn2.mag.f[MX]');
    expect(second).toMatchObject({ value: 3, said: 'good' });
  });
});
