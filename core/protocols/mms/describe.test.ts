import { expect, test } from 'vitest';
import { pduWords } from './describe.ts';
import { AGREEMENT } from './trials/pair.ts';
import { OTHERS, REQUESTS, RESPONSES } from './trials/samples.ts';

test('requests, a line each', () => {
  expect(REQUESTS.map((pdu) => pduWords(pdu))).toEqual([
    'status, request 1',
    'identify, request 2',
    'names, request 3: domain',
    'names, request 4: variable of HLMF1 after LLN0',
    'type, request 5: HLMF1/MMXU1$MX$A$phsA$cVal$mag$f',
    'read, request 6: HLMF1/MMXU1$MX$A$phsA$cVal$mag$f, Clock',
    'read, request 7: list HLMF1/LLN0$measurements',
    'read, request 8: HLMF1/MMXU1$MX$A$phsA$cVal$mag$f',
    'write, request 9: HLMF1/MMXU1$MX$A$phsA$cVal$mag$f, Clock = true, 1.5',
    'define list, request 10: HLMF1/LLN0$measurements, 1 member',
    'members of list, request 11: HLMF1/LLN0$measurements',
    'delete list, request 12: HLMF1/LLN0$measurements, @x',
    'open file, request 13: /COMTRADE/REC1.CFG',
    'read file, request 14: 77',
    'close file, request 15: 77',
    'delete file, request 16: REC1.CFG',
    'directory, request 17: /COMTRADE',
    'obtain file, request 18: a.cid as b.cid',
    'read journal, request 19: HLMF1/LLN0$EventLog',
    'read journal, request 20: HLMF1/LLN0$EventLog',
    'read journal, request 21: HLMF1/LLN0$EventLog',
    'read journal, request 22: HLMF1/LLN0$EventLog',
    'status of journal, request 23: HLMF1/LLN0$EventLog',
    'empty journal, request 24: HLMF1/LLN0$EventLog',
    'empty journal, request 25: HLMF1/LLN0$EventLog',
  ]);
});

test('responses and the others', () => {
  expect(RESPONSES.map((pdu) => pduWords(pdu))).toEqual([
    'status, response 1',
    'identify, response 2: The bench, Bay IED, 1.0',
    'names, response 3: 2 names',
    'names, response 4: 0 names, more follow',
    'type, response 5: structure',
    'read, response 6: true, -70000, 4000000000 and 11 more',
    'write, response 9: done, access denied',
    'define list, response 10',
    'members of list, response 11: 1 member',
    'delete list, response 12: 1 of 2 deleted',
    'open file, response 13: 77, 4711 octets',
    'read file, response 14: 3 octets',
    'close file, response 15',
    'delete file, response 16',
    'directory, response 17: 2 files',
    'obtain file, response 18',
    'read journal, response 19: 2 entries, more follow',
    'status of journal, response 23: 4711 there',
    'empty journal, response 24: 12 taken out',
  ]);
  expect(OTHERS.map((pdu) => pduWords(pdu))).toEqual([
    'report of list RPT: 4 values',
    'report of HLMF1/MMXU1$MX$A$phsA$cVal$mag$f, Clock: 2 values',
    'error to request 5: no such object',
    'error to request 13: no such file (gone)',
    'reject of request 6 (1.1)',
    'reject (5.0)',
    'cancel request 6',
    'request 6 cancelled',
    'request 6 not cancelled: cancel 1',
  ]);
  expect(pduWords({ type: 'initiate', agreement: AGREEMENT })).toBe(
    'initiate: messages of 65000 octets, 5 and 5 requests at once, 10 levels',
  );
  expect(pduWords(REQUESTS[4], ({ item }) => item)).toBe('type, request 5: MMXU1$MX$A$phsA$cVal$mag$f');
});
