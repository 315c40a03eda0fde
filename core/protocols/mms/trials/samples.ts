import type { Data } from '../wire/data.ts';
import type { Pdu } from '../wire/pdu.ts';
import type { ObjectName } from '../wire/names.ts';
import type { Variables } from '../wire/services.ts';

/** One message of each kind, with what there is to say in it. */

const name: ObjectName = { scope: 'domain', domain: 'HLMF1', item: 'MMXU1$MX$A$phsA$cVal$mag$f' };
const list: ObjectName = { scope: 'domain', domain: 'HLMF1', item: 'LLN0$measurements' };
const variables: Variables = { names: [{ name }, { name: { scope: 'vmd', item: 'Clock' } }] };
const octets = (...values: number[]): Uint8Array => Uint8Array.from(values);

const journal: ObjectName = { scope: 'domain', domain: 'HLMF1', item: 'LLN0$EventLog' };
const DAY = octets(0, 0, 0x10, 0, 0x3b, 0x10);

export const VALUES: readonly Data[] = [
  { type: 'boolean', value: true },
  { type: 'integer', value: -70_000 },
  { type: 'unsigned', value: 4_000_000_000 },
  { type: 'integer', value: -9_007_199_254_740_993n },
  { type: 'float', value: 1.5, width: 32 },
  { type: 'float', value: -Math.PI, width: 64 },
  { type: 'bits', bits: [true, false, ...new Array<boolean>(11).fill(false)] },
  { type: 'octets', octets: octets(1, 2, 3) },
  { type: 'text', text: 'Hollowmere', wide: false },
  { type: 'text', text: 'Höhe', wide: true },
  { type: 'utcTime', octets: octets(0x65, 0x53, 0xf1, 0, 0x80, 0, 0, 0x0a) },
  { type: 'binaryTime', octets: octets(0, 0, 0x10, 0, 0x3b, 0x10) },
  {
    type: 'structure',
    items: [
      { type: 'boolean', value: false },
      { type: 'array', items: [{ type: 'integer', value: 1 }] },
    ],
  },
];

export const REQUESTS: readonly (Pdu & { type: 'request' })[] = [
  { type: 'request', invoke: 1, service: 'status', request: { extended: false } },
  { type: 'request', invoke: 2, service: 'identify', request: {} },
  { type: 'request', invoke: 3, service: 'nameList', request: { class: 'domain', domain: null, after: null } },
  { type: 'request', invoke: 4, service: 'nameList', request: { class: 'variable', domain: 'HLMF1', after: 'LLN0' } },
  { type: 'request', invoke: 5, service: 'attributes', request: { name } },
  { type: 'request', invoke: 6, service: 'read', request: { variables } },
  { type: 'request', invoke: 7, service: 'read', request: { variables: { list } } },
  { type: 'request', invoke: 8, service: 'read', request: { variables: { names: [{ name, part: ['cVal', 'mag'] }] } } },
  { type: 'request', invoke: 9, service: 'write', request: { variables, values: [VALUES[0], VALUES[4]] } },
  { type: 'request', invoke: 10, service: 'defineList', request: { name: list, names: [{ name }] } },
  { type: 'request', invoke: 11, service: 'listAttributes', request: { name: list } },
  {
    type: 'request',
    invoke: 12,
    service: 'deleteList',
    request: { names: [list, { scope: 'association', item: 'x' }] },
  },
  { type: 'request', invoke: 13, service: 'fileOpen', request: { name: '/COMTRADE/REC1.CFG', from: 0 } },
  { type: 'request', invoke: 14, service: 'fileRead', request: { handle: 77 } },
  { type: 'request', invoke: 15, service: 'fileClose', request: { handle: 77 } },
  { type: 'request', invoke: 16, service: 'fileDelete', request: { name: 'REC1.CFG' } },
  { type: 'request', invoke: 17, service: 'fileDirectory', request: { name: '/COMTRADE', after: 'REC1.CFG' } },
  { type: 'request', invoke: 18, service: 'obtainFile', request: { source: 'a.cid', destination: 'b.cid' } },
  { type: 'request', invoke: 19, service: 'readJournal', request: { name: journal } },
  {
    ...{ type: 'request', invoke: 20, service: 'readJournal' },
    request: { name: journal, from: { time: DAY }, to: { time: DAY } },
  },
  {
    ...{ type: 'request', invoke: 21, service: 'readJournal' },
    request: { name: journal, to: { count: 10 }, after: { time: DAY, entry: octets(0, 9) } },
  },
  {
    ...{ type: 'request', invoke: 22, service: 'readJournal' },
    request: { name: journal, from: { entry: octets(0, 9) } },
  },
  { type: 'request', invoke: 23, service: 'journalStatus', request: { name: journal } },
  { type: 'request', invoke: 24, service: 'initializeJournal', request: { name: journal, upTo: null } },
  {
    ...{ type: 'request', invoke: 25, service: 'initializeJournal' },
    request: { name: journal, upTo: { time: DAY, entry: octets(1) } },
  },
];

export const RESPONSES: readonly (Pdu & { type: 'response' })[] = [
  { type: 'response', invoke: 1, service: 'status', response: { logical: 0, physical: 0 } },
  {
    type: 'response',
    invoke: 2,
    service: 'identify',
    response: { vendor: 'The bench', model: 'Bay IED', revision: '1.0' },
  },
  { type: 'response', invoke: 3, service: 'nameList', response: { names: ['HLMF1', 'HLMF2'], more: false } },
  { type: 'response', invoke: 4, service: 'nameList', response: { names: [], more: true } },
  {
    type: 'response',
    invoke: 5,
    service: 'attributes',
    response: {
      deletable: false,
      of: {
        type: 'structure',
        components: [
          {
            name: 'mag',
            of: { type: 'structure', components: [{ name: 'f', of: { type: 'float', width: 32, exponent: 8 } }] },
          },
          { name: 'q', of: { type: 'bits', size: -13 } },
          { name: 't', of: { type: 'utcTime' } },
          { name: 'n', of: { type: 'array', count: 4, element: { type: 'integer', bits: 32 } } },
          { name: 'd', of: { type: 'wideText', size: -255 } },
          { name: 'v', of: { type: 'text', size: -129 } },
          { name: 'o', of: { type: 'octets', size: -64 } },
          { name: 'b', of: { type: 'boolean' } },
          { name: 'u', of: { type: 'unsigned', bits: 8 } },
          { name: 'e', of: { type: 'binaryTime', days: true } },
        ],
      },
    },
  },
  { type: 'response', invoke: 6, service: 'read', response: { results: [...VALUES, { type: 'failure', code: 10 }] } },
  { type: 'response', invoke: 9, service: 'write', response: { results: [null, 3] } },
  { type: 'response', invoke: 10, service: 'defineList', response: {} },
  { type: 'response', invoke: 11, service: 'listAttributes', response: { deletable: true, names: [{ name }] } },
  { type: 'response', invoke: 12, service: 'deleteList', response: { matched: 2, deleted: 1 } },
  {
    type: 'response',
    invoke: 13,
    service: 'fileOpen',
    response: { handle: 77, attributes: { size: 4711, modified: '20261127020000.000Z' } },
  },
  { type: 'response', invoke: 14, service: 'fileRead', response: { data: octets(1, 2, 3), more: false } },
  { type: 'response', invoke: 15, service: 'fileClose', response: {} },
  { type: 'response', invoke: 16, service: 'fileDelete', response: {} },
  {
    type: 'response',
    invoke: 17,
    service: 'fileDirectory',
    response: {
      entries: [
        { name: '/COMTRADE/REC1.CFG', attributes: { size: 10, modified: '20261127020000.000Z' } },
        { name: '/COMTRADE/REC1.DAT', attributes: { size: 20, modified: '' } },
      ],
      more: false,
    },
  },
  { type: 'response', invoke: 18, service: 'obtainFile', response: {} },
  {
    ...{ type: 'response', invoke: 19, service: 'readJournal' },
    response: {
      entries: [
        {
          ...{ id: octets(0, 0, 0, 0, 0, 0, 0, 9), time: DAY },
          variables: [
            { tag: 'HLMF1/XCBR1$ST$Pos', value: VALUES[12] },
            { tag: 'HLMF1/XCBR1$ST$Pos$ReasonCode', value: VALUES[6] },
          ],
        },
        { id: octets(1), time: DAY, variables: [], note: 'tested' },
      ],
      more: true,
    },
  },
  { type: 'response', invoke: 23, service: 'journalStatus', response: { entries: 4711, deletable: false } },
  { type: 'response', invoke: 24, service: 'initializeJournal', response: { deleted: 12 } },
];

export const OTHERS: readonly Pdu[] = [
  { type: 'report', variables: { list: { scope: 'vmd', item: 'RPT' } }, results: VALUES.slice(0, 4) },
  { type: 'report', variables, results: [VALUES[0], VALUES[1]] },
  { type: 'error', invoke: 5, error: { class: 7, code: 2, words: '' } },
  { type: 'error', invoke: 13, error: { class: 11, code: 7, words: 'gone' } },
  { type: 'reject', invoke: 6, kind: 1, code: 1 },
  { type: 'reject', invoke: null, kind: 5, code: 0 },
  { type: 'cancel', invoke: 6 },
  { type: 'cancelled', invoke: 6 },
  { type: 'cancelError', invoke: 6, error: { class: 10, code: 1, words: '' } },
];
