import { beforeEach, expect, test } from 'vitest';
import { AccessError, type Data } from '../../mms/wire/data.ts';
import type { Report } from '../report.ts';
import { ReportControl, type BlockSettings } from './reportcontrol.ts';

const NOW = 1_700_000_000_000;
const CLIENT = 3;
const BLOCK: BlockSettings = {
  ...{ device: 'BAY', item: 'LLN0$RP$urcb01', isBuffered: false, reportId: 'r', dataSet: 'BAY/LLN0$status' },
  ...{ revision: 5, values: 100 },
};
let sent: { set: string; report: Report }[];
let block: ReportControl;
let sets: Record<string, number>;
function begin(more: Partial<BlockSettings> = {}): void {
  sent = [];
  sets = { 'BAY/LLN0$status': 2, '@mine@3': 1 };
  block = new ReportControl(
    { ...BLOCK, ...more },
    {
      sizeOf: (set) => sets[set] ?? null,
      value: () => ({ type: 'boolean', value: true }),
      reference: () => '',
      keep: () => {},
      number: () => 1,
      owe: () => {},
      settle: () => {},
      composition: () => 1,
      send: (_peer, report, set) => void sent.push({ set, report }),
      ownSet: (peer, name) => (peer === CLIENT && name === 'mine' ? '@mine@3' : null),
    },
  );
}
const write = (attribute: string, data: Data): number | null => block.write(attribute, data, CLIENT, 'client', NOW);
const unsigned = (value: number): Data => ({ type: 'unsigned', value });
const text = (words: string): Data => ({ type: 'text', text: words, wide: false });
const octets = (count: number): Data => ({ type: 'octets', octets: new Uint8Array(count) });
beforeEach(() => begin());

test('all values are not reported more often than ten times a second', () => {
  expect([1, 99].map((ms) => write('IntgPd', unsigned(ms)))).toEqual([
    AccessError.valueInvalid,
    AccessError.valueInvalid,
  ]);
  expect(block.read('IntgPd')).toEqual(unsigned(0));
  expect([0, 100].map((ms) => write('IntgPd', unsigned(ms)))).toEqual([null, null]);
  expect(block.read('IntgPd')).toEqual(unsigned(100));
});

test('an id of an entry has eight octets', () => {
  begin({ isBuffered: true, item: 'LLN0$BR$brcb01' });
  expect([4, 9, 0].map((count) => write('EntryID', octets(count)))).toEqual(
    new Array<number>(3).fill(AccessError.typeInconsistent),
  );
  expect(write('EntryID', octets(8))).toBeNull();
});

test('a data set of the association is reported, by the name that its client has for it, and goes with it', () => {
  expect(write('DatSet', text('@none'))).toBe(AccessError.nonExistent);
  expect(write('DatSet', text('@mine'))).toBeNull();
  expect([block.read('DatSet'), block.read('ConfRev')]).toEqual([text('@mine'), unsigned(6)]);
  expect([write('DatSet', text('@mine')), block.read('ConfRev')]).toEqual([null, unsigned(6)]);
  // Data set, data changes.
  write('OptFlds', { type: 'bits', bits: [false, false, false, false, true] });
  expect(write('RptEna', { type: 'boolean', value: true })).toBeNull();
  block.changed(0, { type: 'boolean', value: true }, 'dataChange', 1, NOW);
  block.wake(NOW + 1);
  expect(sent).toMatchObject([{ set: '@mine@3', report: { dataSet: '@mine', size: 1 } }]);
  block.left(CLIENT, NOW);
  expect([block.ofDataSet, block.read('ConfRev')]).toEqual(['BAY/LLN0$status', unsigned(5)]);
});

test('it cannot be buffered: nobody would have it when its client is away', () => {
  begin({ isBuffered: true, item: 'LLN0$BR$brcb01' });
  expect(write('DatSet', text('@mine'))).toBe(AccessError.valueInvalid);
});

test('another name for the same data set empties nothing', () => {
  expect(write('DatSet', text('BAY/LLN0$status'))).toBeNull();
  expect(block.read('ConfRev')).toEqual(unsigned(5));
  expect(write('DatSet', text('BAY/LLN0$none'))).toBe(AccessError.nonExistent);
});
