import { describe, expect, test } from 'vitest';
import type { AccessResult, Data } from '../mms/wire/data.ts';
import type { Variable } from '../mms/wire/services.ts';
import { headerData, messageOf, messageText, messageWords, type InfoMessage } from './messages.ts';

const octets = (text: string): Uint8Array => new TextEncoder().encode(text);
const message = (text: string, more: Partial<InfoMessage> = {}): InfoMessage => ({
  ...{ infoRef: 1, localRef: 2, id: 3, octets: octets(text) },
  ...more,
});
const named = (...items: string[]): Variable[] =>
  items.map((item) => ({ name: { scope: 'domain', domain: 'ICC1', item } }));
const body = (text: string): Data => ({ type: 'octets', octets: octets(text) });

describe('a message that is told', () => {
  test('is read as it was written', () => {
    const sent = message('Tie opens');
    const read = messageOf(named('Info_Mess_Header', 'Info_Buff'), [headerData(sent), body('Tie opens')]);
    expect(read).toEqual(sent);
    expect(read && messageWords(read)).toBe('message 1/2/3: Tie opens');
  });

  test.each<[string, Variable[], AccessResult[]]>([
    ['in the other order', named('Info_Buff_32', 'Info_Mess_Header'), [body('hello'), headerData(message('hello'))]],
    [
      'as characters',
      named('Info_Mess_Header', 'Info_Stream'),
      [headerData(message('hello')), { type: 'text', text: 'hello', wide: false }],
    ],
    [
      'without its length',
      named('Info_Mess_Header', 'Info_Buff'),
      [{ type: 'structure', items: [1, 2, 3].map((value) => ({ type: 'unsigned' as const, value })) }, body('hello')],
    ],
    ['filled up behind', named('Info_Mess_Header', 'Info_Buff'), [headerData(message('hello')), body('hello\0\0\0')]],
    [
      'among others',
      named('Other', 'Info_Mess_Header', 'Info_Buff'),
      [body('x'), headerData(message('hello')), body('hello')],
    ],
  ])('is read %s', (_how, names, results) => {
    const read = messageOf(names, results);
    expect(read && [read.infoRef, read.localRef, read.id, messageText(read)]).toEqual([1, 2, 3, 'hello']);
  });

  test.each<[string, Variable[], AccessResult[]]>([
    ['nothing', [], []],
    ['a report', named('Transfer_Set_Name', 'TIE_MW'), [headerData(message('x')), body('x')]],
    ['a header alone', named('Info_Mess_Header'), [headerData(message('x'))]],
    ['a text alone', named('Info_Buff'), [body('x')]],
    [
      'two numbers',
      named('Info_Mess_Header', 'Info_Buff'),
      [
        {
          type: 'structure',
          items: [
            { type: 'integer', value: 1 },
            { type: 'integer', value: 2 },
          ],
        },
        body('x'),
      ],
    ],
    [
      'no numbers',
      named('Info_Mess_Header', 'Info_Buff'),
      [{ type: 'structure', items: [body('1'), body('2'), body('3')] }, body('x')],
    ],
    ['a failure', named('Info_Mess_Header', 'Info_Buff'), [{ type: 'failure', code: 3 }, body('x')]],
  ])('%s is none', (_what, names, results) => expect(messageOf(names, results)).toBeNull());

  test('what is no text is shown octet by octet, however long it is', () => {
    expect(messageText(message('', { octets: Uint8Array.of(0xff, 0, 7) }))).toBe('ff 00 07');
    expect(messageText(message('', { octets: Uint8Array.of(0x41, 0x1b, 0x5b) }))).toBe('41 1b 5b');
    expect(messageText(message('', { octets: new Uint8Array(5000) })).length).toBeLessThan(700);
    expect(messageText(message('zwei\nZeilen, größer'))).toBe('zwei\nZeilen, größer');
  });
});
