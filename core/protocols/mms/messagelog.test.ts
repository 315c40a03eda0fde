import { expect, test } from 'vitest';
import { MessageLog } from './messagelog.ts';
import { encodePdu, type Pdu } from './wire/pdu.ts';

const NOW = 1_000_000;
const read: Pdu = {
  ...{ type: 'request', invoke: 7, service: 'read' },
  request: { variables: { names: [{ name: { scope: 'domain', domain: 'ICC1', item: 'TIE_MW' } }] } },
};
const answer: Pdu = {
  ...{ type: 'response', invoke: 7, service: 'read' },
  response: { results: [{ type: 'float', value: 41.5, width: 32 }] },
};
const report: Pdu = {
  type: 'report',
  variables: { list: { scope: 'domain', domain: 'ICC1', item: 'Set1' } },
  results: [
    { type: 'integer', value: 7 },
    { type: 'failure', code: 10 },
  ],
};

test('messages are told in words, the newest first, with what they carry', () => {
  const log = new MessageLog();
  log.add(true, encodePdu(read), NOW);
  log.add(false, encodePdu(answer), NOW + 20);
  log.of('10.1.0.7').add(false, encodePdu(report), NOW + 30);
  const { rows, columns } = log.table;
  expect(columns).toEqual(['Number', 'From', 'Message', 'Octets']);
  expect(rows.map(({ cells, time }) => [...cells.slice(0, 3), time])).toEqual([
    ['3', '10.1.0.7', 'report of list ICC1/Set1: 2 values', NOW + 30],
    ['2', 'them', 'read, response 7: 41.5', NOW + 20],
    ['1', 'us', 'read, request 7: ICC1/TIE_MW', NOW],
  ]);
  expect(rows.map(({ more }) => more?.rows)).toEqual([
    [
      ['ICC1/Set1 1', '7'],
      ['ICC1/Set1 2', 'no such object'],
    ],
    [['1', '41.5']],
    [['ICC1/TIE_MW', '']],
  ]);
});

test('what is not understood is shown as that', () => {
  const log = new MessageLog();
  log.add(false, Uint8Array.of(0xa0, 0x7f, 1), NOW);
  const [row] = log.table.rows;
  expect(row.cells[2]).toMatch(/^not understood: /);
  expect(row.odd).toEqual([2]);
});

test('only the last ones are kept, and of long ones fewer', () => {
  const log = new MessageLog();
  for (let n = 0; n < 200; n++) log.add(true, encodePdu(read), NOW + n);
  expect(log.table.rows).toHaveLength(60);
  expect(log.table.rows[0].cells[0]).toBe('200');
  for (let n = 0; n < 10; n++) log.add(false, new Uint8Array(40_000), NOW);
  expect(log.table.rows).toHaveLength(2);
  log.add(false, new Uint8Array(400_000), NOW);
  expect(log.table.rows).toHaveLength(1);
});
