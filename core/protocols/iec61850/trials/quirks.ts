import { AccessError } from '../../mms/wire/data.ts';
import { indefinite, longLengths, type Quirks } from '../../mms/trials/model/odd.ts';
import { failing, lost, pages, refused, rejected, unreadable, values, when } from '../../mms/trials/model/rules.ts';
import { trouble, type Expected } from '../../mms/trials/model/trouble.ts';
import { Both, listed, offered } from './both.ts';

/*
 * What foreign devices with models do: each row one that keeps to the standards in a way of its own, or nearly keeps to them.
 * Of each of them our client has to read every point that can be read and to tell the others, to hear of each change, and to
 * operate once when it is told to, without asking beyond measure.
 */

export interface Oddity extends Partial<Expected> {
  name: string;
  quirks: Quirks;
  client?: object;
  /** Points that cannot be had, by their numbers. */
  lost?: readonly number[];
}

const OFFERS = [
  offered('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS'),
  offered('binary', 'HLM/GGIO1.Ind2[ST]', 'SPS'),
  offered('doubleBit', 'HLM/XCBR1.Pos[ST]', 'DPC'),
  offered('output', 'HLM/XCBR1.Pos[CO]', 'DPC'),
  offered('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV'),
  offered('analog', 'HLM/GGIO2.AnIn1[MX]', 'MV'),
  offered('counter', 'HLM/GGIO1.CntRs1[ST]', 'BCR'),
];
const OUTPUT = 4;
const LIST = [
  listed(1, 'binary', 'HLM/GGIO1.Ind1.stVal[ST]'),
  listed(2, 'binary', 'HLM/GGIO1.Ind2.stVal[ST]'),
  listed(3, 'doubleBit', 'HLM/XCBR1.Pos[ST]'),
  listed(OUTPUT, 'output', 'HLM/XCBR1.Pos[CO]'),
  listed(5, 'analog', 'HLM/GGIO1.AnIn1.mag.f[MX]'),
  listed(6, 'analog', 'HLM/GGIO2.AnIn1.mag.f[MX]'),
  listed(7, 'counter', 'HLM/GGIO1.CntRs1[ST]'),
];

const REPORT = /\$(BR|RP)\$/;
const field = (name: string): RegExp => new RegExp(`\\$(BR|RP)\\$\\w+\\$${name}$`);
const polled = { withinMs: 5000, events: false } as const;

export const ODDITIES: readonly Oddity[] = [
  { name: 'none', quirks: {} },
  { name: 'none, unbuffered', quirks: {}, client: { reports: 'unbuffered' } },
  { name: 'none, polled', quirks: {}, client: { reports: 'none' }, ...polled },
  { name: 'every length in three octets', quirks: { writes: longLengths } },
  { name: 'lengths in the indefinite form', quirks: { writes: indefinite } },
  { name: 'transport messages of 128 octets', quirks: { tpduSize: 128 } },
  ...[420, 1000, 8000].map((size): Oddity => ({ name: `messages of ${size} octets`, quirks: { agreement: { size } } })),
  { name: 'one request at a time', quirks: { agreement: { calling: 1 }, most: 1 } },
  { name: 'agrees on ten requests, and rejects the third', quirks: { most: 2, delayMs: 20 } },
  { name: 'answers the last request first', quirks: { lastFirst: true } },
  { name: 'says nothing of its services', quirks: { agreement: { services: [] } } },
  { name: 'refuses two associations', quirks: { refuses: 2 } },
  { name: 'takes 900 ms for each answer', quirks: { delayMs: 900 }, withinMs: 5000 },
  { name: 'some octets at a time', quirks: { dribbles: true } },
  { name: 'closes after a minute', quirks: { closesAfterMs: 60_000 }, withinMs: 5000 },
  { name: 'names in pages of three', quirks: { says: pages(3) } },
  { name: 'refuses lists of names', quirks: { request: when(['nameList'], /./, refused) }, ...polled },
  { name: 'rejects lists of names', quirks: { request: when(['nameList'], /./, rejected) }, ...polled },
  { name: 'identifies itself to nobody', quirks: { request: when(['identify', 'status'], /./, rejected) } },
  { name: 'refuses what its sets hold', quirks: { request: when(['listAttributes'], /./, refused) }, ...polled },
  { name: 'lets nobody make sets', quirks: { request: when(['defineList'], /./, refused) } },
  { name: 'refuses types of nodes', quirks: { request: when(['attributes'], /^HLM\/\w+$/, refused) } },
  { name: 'refuses the type of one node', quirks: { request: when(['attributes'], /GGIO2$/, refused) } },
  {
    name: 'does not answer for the type of one node',
    quirks: { request: when(['attributes'], /GGIO2$/, lost) },
    withinMs: 8000,
  },
  {
    name: 'a point that is not to be read, polled',
    quirks: { says: unreadable(/GGIO1\$ST\$Ind2/, AccessError.denied) },
    client: { reports: 'none' },
    lost: [2],
    ...polled,
  },
  {
    name: 'a service error for reads with one of them, polled',
    quirks: { request: when(['read'], /GGIO1\$ST\$Ind2/, refused) },
    client: { reports: 'none' },
    lost: [2],
    ...polled,
  },
  {
    name: 'a reject for reads with one of them, polled',
    quirks: { request: when(['read'], /GGIO1\$ST\$Ind2/, rejected) },
    client: { reports: 'none' },
    lost: [2],
    ...polled,
  },
  {
    name: 'lets nobody have reports',
    quirks: { request: when(['write'], REPORT, failing(AccessError.denied)) },
    ...polled,
  },
  {
    name: 'lets nobody enable reports',
    quirks: { request: when(['write'], field('RptEna'), failing(AccessError.denied)) },
    ...polled,
  },
  {
    name: 'the first block of each is another client’s',
    quirks: { request: when(['write'], /\$(BR|RP)\$\w+01\$/, failing(AccessError.temporarilyUnavailable)) },
  },
  ...['OptFlds', 'TrgOps', 'BufTm', 'IntgPd', 'GI', 'ResvTms'].map((name): Oddity => ({
    name: `does not let ${name} be set`,
    quirks: { request: when(['write'], field(name), failing(AccessError.denied)) },
    withinMs: 8000,
    ...(['OptFlds', 'TrgOps'].includes(name) ? { events: false } : {}),
  })),
  {
    name: 'does not go back to an entry of its buffer',
    quirks: { request: when(['write'], field('EntryID'), failing(AccessError.denied)), closesAfterMs: 60_000 },
    withinMs: 8000,
  },
  {
    name: 'has no ResvTms and no Resv',
    quirks: { request: when(['write'], /\$Resv(Tms)?$/, failing(AccessError.nonExistent)) },
  },
  { name: 'sends each report twice', quirks: { says: (pdu) => (pdu.type === 'report' ? [pdu, pdu] : [pdu]) } },
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
    name: 'unsigned numbers as signed ones',
    quirks: {
      says: values((one) => (one.type === 'unsigned' ? { ...one, type: 'integer' } : one)),
    },
  },
  {
    name: 'quality in 16 bits',
    quirks: {
      says: values((one) =>
        one.type === 'bits' && one.bits.length === 13 ? { ...one, bits: [...one.bits, false, false, false] } : one,
      ),
    },
  },
  {
    name: 'times with no clock',
    quirks: {
      says: values((one) =>
        one.type === 'utcTime' ? { ...one, octets: Uint8Array.of(0, 0, 0, 0, 0, 0, 0, 0x60) } : one,
      ),
    },
    events: false,
  },
  {
    name: 'does not operate',
    quirks: { request: when(['write'], /\$CO\$/, failing(AccessError.denied)) },
    cannotOperate: true,
  },
  {
    name: 'refuses controls by a service error',
    quirks: { request: when(['write'], /\$CO\$/, refused) },
    cannotOperate: true,
  },
];

/** Some minutes before one of them. Says what went wrong. */
export function tryOddity({ name: _, quirks, client = {}, lost: gone = [], ...rest }: Oddity): string[] {
  const pair = new Both([...LIST], OFFERS, { client });
  return trouble(pair, quirks, {
    ...rest,
    gone,
    ignored: [OUTPUT],
    change: (n) => {
      pair.update('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS', n % 2);
      pair.update('binary', 'HLM/GGIO1.Ind2[ST]', 'SPS', n % 2);
      pair.update('doubleBit', 'HLM/XCBR1.Pos[ST]', 'DPC', 1 + (n % 2));
      pair.update('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', n * 1.5);
      pair.update('analog', 'HLM/GGIO2.AnIn1[MX]', 'MV', n * 2.5);
      pair.update('counter', 'HLM/GGIO1.CntRs1[ST]', 'BCR', n * 10);
    },
    values: (n) => ({ ...{ 1: n % 2, 2: n % 2, 3: 1 + (n % 2), 5: n * 1.5, 6: n * 2.5, 7: n * 10 } }),
    watched: 5,
    control: () => pair.control('HLM/XCBR1.Pos[CO]', 'output', { operation: 'latchOn' }),
  });
}
