import { indefinite, longLengths, type Quirks } from '../../mms/trials/model/odd.ts';
import { failing, pages, refused, rejected, unreadable, values, when } from '../../mms/trials/model/rules.ts';
import { trouble, type Expected } from '../../mms/trials/model/trouble.ts';
import { AccessError } from '../../mms/wire/data.ts';
import { Both, listed, offered } from './both.ts';

/*
 * What foreign peers of an agreement do: each row one that keeps to the standards in a way of its own, or nearly keeps to
 * them. Of each of them our client has to read every point that can be read and to tell the others, to hear of each change,
 * and to operate once when it is told to, without asking beyond measure.
 */

export interface Oddity extends Partial<Expected> {
  name: string;
  quirks: Quirks;
  client?: object;
  /** Points that cannot be had, by their numbers. */
  lost?: readonly number[];
}

const MORE = Array.from({ length: 40 }, (_, n) => `FLOW_${n + 1}`);
const OFFERS = [
  offered('analog', 'TIE_MW', 'RealQTimeTag'),
  offered('binary', 'LINE', 'StateQTimeTag'),
  offered('doubleBit', 'BREAKER', 'State'),
  offered('counter', 'ENERGY', 'DiscreteExtended'),
  offered('output', 'LAMP', 'Command'),
  ...MORE.map((name) => offered('analog', name, 'RealQ')),
];
const OUTPUT = 5;
const LIST = [
  listed(1, 'analog', 'HALVIX/TIE_MW'),
  listed(2, 'binary', 'HALVIX/LINE'),
  listed(3, 'doubleBit', 'HALVIX/BREAKER'),
  listed(4, 'counter', 'HALVIX/ENERGY'),
  listed(OUTPUT, 'output', 'HALVIX/LAMP'),
  ...MORE.map((name, n) => listed(101 + n, 'analog', `HALVIX/${name}`)),
];

const polled = { withinMs: 12_000, events: false } as const;
const SET = /\$?DSTrans|Next_DS|Transfer/i;

export const ODDITIES: readonly Oddity[] = [
  { name: 'none', quirks: {} },
  { name: 'none, polled', quirks: {}, client: { reports: false }, ...polled },
  { name: 'every length in three octets', quirks: { writes: longLengths } },
  { name: 'lengths in the indefinite form', quirks: { writes: indefinite } },
  { name: 'transport messages of 128 octets', quirks: { tpduSize: 128 } },
  ...[8000, 2000].map((size): Oddity => ({ name: `messages of ${size} octets`, quirks: { agreement: { size } } })),
  { name: 'messages of 600 octets', quirks: { agreement: { size: 600 } }, ...polled },
  {
    name: 'messages of 600 octets, polled',
    quirks: { agreement: { size: 600 } },
    client: { reports: false },
    ...polled,
  },
  { name: 'one request at a time', quirks: { agreement: { calling: 1 }, most: 1 } },
  { name: 'answers the last request first', quirks: { lastFirst: true } },
  { name: 'refuses two associations', quirks: { refuses: 2 } },
  { name: 'takes 900 ms for each answer', quirks: { delayMs: 900 }, withinMs: 5000 },
  { name: 'some octets at a time', quirks: { dribbles: true }, withinMs: 5000 },
  { name: 'closes after a minute', quirks: { closesAfterMs: 60_000 }, ...polled },
  { name: 'names in pages of three', quirks: { says: pages(3) } },
  { name: 'refuses lists of names', quirks: { request: when(['nameList'], /./, refused) } },
  { name: 'rejects lists of names', quirks: { request: when(['nameList'], /./, rejected) } },
  { name: 'identifies itself to nobody', quirks: { request: when(['identify', 'status'], /./, rejected) } },
  { name: 'tells no version', quirks: { says: unreadable(/TASE2_Version/, AccessError.nonExistent) } },
  { name: 'tells no features', quirks: { says: unreadable(/Supported_Features/, AccessError.nonExistent) } },
  { name: 'lets nobody make data sets', quirks: { request: when(['defineList'], /./, refused) }, ...polled },
  { name: 'rejects data sets', quirks: { request: when(['defineList'], /./, rejected) }, ...polled },
  {
    name: 'has no transfer set free',
    quirks: { says: unreadable(/Next_DSTransfer_Set/, AccessError.temporarilyUnavailable) },
    ...polled,
  },
  {
    name: 'takes attributes of a transfer set one by one alone',
    quirks: { request: when(['write'], /DSTrans[^$]*$/i, failing(AccessError.typeInconsistent)) },
  },
  {
    name: 'lets nobody write transfer sets',
    quirks: { request: when(['write'], SET, failing(AccessError.denied)) },
    ...polled,
  },
  {
    name: 'a point that is not to be read',
    quirks: { says: unreadable(/HALVIX\/FLOW_7$/, AccessError.denied) },
    client: { reports: false },
    lost: [107],
    ...polled,
  },
  {
    name: 'a point that is not there',
    quirks: { says: unreadable(/HALVIX\/FLOW_7$/, AccessError.nonExistent) },
    client: { reports: false },
    lost: [107],
    ...polled,
  },
  {
    name: 'a service error for reads with one of them',
    quirks: { request: when(['read'], /HALVIX\/FLOW_7$/, refused) },
    client: { reports: false },
    lost: [107],
    ...polled,
  },
  {
    name: 'a reject for reads with one of them',
    quirks: { request: when(['read'], /HALVIX\/FLOW_7$/, rejected) },
    client: { reports: false },
    lost: [107],
    ...polled,
  },
  {
    name: 'sends each report twice',
    quirks: { says: (pdu) => (pdu.type === 'report' ? [pdu, pdu] : [pdu]) },
    events: false,
  },
  {
    name: 'says things that nobody knows',
    quirks: {
      says: (pdu) =>
        pdu.type === 'report'
          ? [
              { type: 'reject', invoke: null, kind: 5, code: 0 },
              { ...pdu, variables: { list: { scope: 'vmd', item: 'VENDOR' } } },
              pdu,
            ]
          : [pdu, { type: 'reject', invoke: 77_777, kind: 1, code: 1 }],
    },
  },
  {
    name: 'floats of 64 bits',
    quirks: { says: values((one) => (one.type === 'float' ? { ...one, width: 64 } : one)) },
  },
  {
    name: 'whole numbers without a sign',
    quirks: {
      says: values((one) => (one.type === 'integer' && one.value >= 0 ? { ...one, type: 'unsigned' } : one)),
    },
  },
  {
    name: 'does not operate',
    quirks: { request: when(['write'], /LAMP$/, failing(AccessError.denied)) },
    cannotOperate: true,
  },
  {
    name: 'refuses controls by a service error',
    quirks: { request: when(['write'], /LAMP$/, refused) },
    cannotOperate: true,
  },
  { name: 'rejects controls', quirks: { request: when(['write'], /LAMP$/, rejected) }, cannotOperate: true },
];

/** Some minutes before one of them. Says what went wrong. */
export function tryOddity({ name: _, quirks, client = {}, lost: gone = [], ...rest }: Oddity): string[] {
  const pair = new Both([...LIST], OFFERS, { client });
  return trouble(pair, quirks, {
    ...rest,
    gone,
    ignored: [OUTPUT],
    change: (n) => {
      pair.update('TIE_MW', n * 1.5);
      pair.update('LINE', n % 2);
      pair.update('BREAKER', 1 + (n % 2));
      pair.update('ENERGY', n * 10);
      MORE.forEach((name, at) => pair.update(name, n + at));
    },
    values: (n) => ({
      ...{ 1: n * 1.5, 2: n % 2, 3: 1 + (n % 2), 4: n * 10 },
      ...Object.fromEntries(MORE.map((_name, at) => [101 + at, n + at])),
    }),
    watched: 1,
    control: () => pair.control('HALVIX/LAMP', 'output', { operation: 'latchOn', mode: 'direct' }),
  });
}
