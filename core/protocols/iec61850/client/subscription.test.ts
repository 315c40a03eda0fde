import { describe, expect, test } from 'vitest';
import type { MmsObjects } from '../../mms/server.ts';
import { Talk } from '../../mms/trials/talk.ts';
import type { Data, TypeOf } from '../../mms/wire/data.ts';
import { Subscription, type Subscribed, type SubscriptionWish } from './subscription.ts';

const TEXT: TypeOf = { type: 'text', size: -129 };
const NUMBER: TypeOf = { type: 'unsigned', bits: 32 };
const bits = (text: string): Data => ({ type: 'bits', bits: [...text].map((bit) => bit === '1') });

/** A block as a device has it: attribute, type, value; in their order. */
const BUFFERED: [string, TypeOf, Data][] = [
  ['RptID', TEXT, { type: 'text', text: 'rptF1', wide: false }],
  ['RptEna', { type: 'boolean' }, { type: 'boolean', value: false }],
  ['DatSet', TEXT, { type: 'text', text: 'HLMF1/LLN0$measurements', wide: false }],
  ['ConfRev', NUMBER, { type: 'unsigned', value: 3 }],
  ['OptFlds', { type: 'bits', size: -10 }, bits('0000000000')],
  ['BufTm', NUMBER, { type: 'unsigned', value: 50 }],
  ['TrgOps', { type: 'bits', size: -6 }, bits('010000')],
  ['IntgPd', NUMBER, { type: 'unsigned', value: 0 }],
  ['GI', { type: 'boolean' }, { type: 'boolean', value: false }],
  ['EntryID', { type: 'octets', size: 8 }, { type: 'octets', octets: new Uint8Array(8) }],
  ['ResvTms', { type: 'integer', bits: 16 }, { type: 'integer', value: 0 }],
];
const wish: SubscriptionWish = {
  ...{ domain: 'HLMF1', item: 'LLN0$BR$brcb01', isBuffered: true, triggers: ['dataChange', 'integrity'] },
  ...{ integrityMs: 60_000, bufferMs: 50, reserveS: 120, entry: null },
};

/** A device with one block; `refuses`: attributes that cannot be written, with the error. */
function tried(
  change: Partial<SubscriptionWish>,
  block: readonly [string, TypeOf, Data][] = BUFFERED,
  refuses: Record<string, number> = {},
): { result: Subscribed | string | null; writes: [string, Data][]; talk: Talk } {
  const writes: [string, Data][] = [];
  const objects: MmsObjects = {
    identity: { vendor: '', model: '', revision: '' },
    names: () => [],
    typeOf: () => null,
    read: ({ name }) =>
      block.length > 0 && name.item === (change.item ?? wish.item)
        ? { type: 'structure', items: block.map(([, , value]) => value) }
        : { type: 'failure', code: 10 },
    write: ({ name }, value, done) => {
      const attribute = name.item.split('$').at(-1) ?? '';
      if (attribute in refuses) return done(refuses[attribute]);
      writes.push([attribute, value]);
      done(null);
    },
    list: () => null,
    defineList: () => null,
    deleteList: () => false,
  };
  const talk = new Talk(objects).start();
  const of: TypeOf = { type: 'structure', components: block.map(([name, type]) => ({ name, of: type })) };
  let result: Subscribed | string | null = null;
  new Subscription(talk.client, { ...wish, ...change }, of, (one) => (result = one)).start(talk.now);
  talk.pump();
  return { result, writes, talk };
}

describe('a report control block', () => {
  test('is reserved, set as wished, enabled and asked for the present values; what is so already is not written', () => {
    const { result, writes } = tried({});
    expect(writes).toEqual([
      ['ResvTms', { type: 'integer', value: 120 }],
      ['OptFlds', bits('0111101110')],
      ['TrgOps', bits('010010')],
      ['IntgPd', { type: 'unsigned', value: 60_000 }],
      ['RptEna', { type: 'boolean', value: true }],
    ]);
    expect(result).toEqual({
      reportId: 'rptF1',
      dataSet: 'HLMF1/LLN0$measurements',
      revision: 3,
      notes: [],
      goesOn: false,
    });
  });

  test('goes on behind the entry that is stored', () => {
    const entry = Uint8Array.of(1, 2, 3, 4, 5, 6, 7, 8);
    const { result, writes } = tried({ entry });
    expect(writes.slice(-2)).toEqual([
      ['EntryID', { type: 'octets', octets: entry }],
      ['RptEna', { type: 'boolean', value: true }],
    ]);
    expect(result).toMatchObject({ goesOn: true });
    expect(tried({ entry }, BUFFERED, { EntryID: 11 }).result).toMatchObject({
      ...{ goesOn: false, notes: ['its buffer does not go back to what is stored: the value is not valid'] },
    });
  });

  test('of edition 1, without a reservation, and an unbuffered one', () => {
    const old = BUFFERED.filter(([name]) => name !== 'ResvTms');
    expect(tried({}, old).writes[0][0]).toBe('OptFlds');
    const unbuffered = [
      ...old.filter(([name]) => name !== 'EntryID'),
      ['Resv', { type: 'boolean' }, { type: 'boolean', value: false }],
    ];
    const { writes } = tried(
      { isBuffered: false, item: 'LLN0$RP$urcb01', entry: new Uint8Array(8) },
      unbuffered as typeof BUFFERED,
    );
    expect(writes.map(([name]) => name)).toEqual(['Resv', 'OptFlds', 'TrgOps', 'IntgPd', 'RptEna']);
  });

  test('what the device has fixed stays, and is noted', () => {
    const { result, writes } = tried({}, BUFFERED, { TrgOps: 3, OptFlds: 3 });
    expect(writes.map(([name]) => name)).toEqual(['ResvTms', 'IntgPd', 'RptEna']);
    expect(result).toMatchObject({
      notes: ['OptFlds stays as the device has it: access denied', 'TrgOps stays as the device has it: access denied'],
    });
  });

  test('of another client is left alone', () => {
    const taken = BUFFERED.map(([name, of, value]): [string, TypeOf, Data] =>
      name === 'RptEna' ? [name, of, { type: 'boolean', value: true }] : [name, of, value],
    );
    expect(tried({}, taken)).toMatchObject({ result: 'HLMF1/LLN0$BR$brcb01: another client has it', writes: [] });
    expect(tried({}, BUFFERED, { ResvTms: 2 })).toMatchObject({
      ...{ result: 'HLMF1/LLN0$BR$brcb01: another client has it: not to be had at the moment', writes: [] },
    });
    expect(tried({}, BUFFERED, { RptEna: 2 }).result).toContain('it cannot be enabled');
  });

  test('that is not there', () => {
    expect(tried({}, [])).toMatchObject({ result: 'HLMF1/LLN0$BR$brcb01: no such object', writes: [] });
  });
});
