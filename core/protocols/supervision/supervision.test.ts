import { Quality } from '../../point/index.ts';
import type { Contact, Contacts } from '../source.ts';
import { describe, expect, test } from 'vitest';
import { address, draftAtSchema, points, type SupervisionAt } from './points.ts';
import { source } from './sessions.ts';

const at = (text: string): SupervisionAt => {
  const read = points.parse(text);
  if (read === null) throw new Error(`${text} is no address`);
  return read.at;
};

describe('addresses', () => {
  test.each([
    ['comm HLM-F1', 'comm HLM-F1'],
    ['COMM  hlm-f1', 'comm HLM-F1'],
    ['comm HLM-F1  AI   7', 'comm HLM-F1 AI 7'],
    ['comm ORL-M1 HR 107.3', 'comm ORL-M1 HR 107.3'],
    ['comm to QST', 'comm to QST'],
    // A device may well be called so.
    ['comm TO', 'comm TO'],
  ])('%s', (text, printed) => expect(address.print({ kind: 'binary', at: at(text) })).toBe(printed));

  test.each(['', 'AI 7', 'comm', 'communication', 'comm to QST AI 7', 'comm h_x', `comm ${'X'.repeat(25)}`])(
    '%s is none',
    (text) => expect(points.parse(text)).toBeNull(),
  );

  test('a cell can be emptied; what is none says what would be', () => {
    const point = { kind: 'binary' as const, at: at('comm HLM-F1 AI 7') };
    const emptied = points.cell.set(point, ' ');
    expect(emptied.ok && address.print(emptied.value)).toBe('');
    expect(draftAtSchema.safeParse(emptied.ok && emptied.value.at).success).toBe(true);
    const bad = points.cell.set(point, 'AI 7');
    expect(!bad.ok && bad.problem).toContain('comm to QST of an outbound');
  });

  test('what they name can be called otherwise', () => {
    const named = points.names?.of(at('comm HLM-F1 AI 7'));
    expect(named).toEqual({ kind: 'device', code: 'HLM-F1', point: 'AI 7' });
    const next = points.names?.renamed(at('comm HLM-F1 AI 7'), { kind: 'device', code: 'HLM-X', point: 'AI 70' });
    expect(next && address.print({ kind: 'binary', at: next })).toBe('comm HLM-X AI 70');
  });

  test('everybody that there is has one', () => {
    const made = points.obtainable?.({
      devices: [{ code: 'HLM-F1', name: 'F1 feeder relay' }],
      outbounds: [{ code: 'QST', centre: 'Quillstone' }],
    });
    expect(made?.map((point) => [address.print(point), point.name])).toEqual([
      ['comm HLM-F1', 'F1 feeder relay, communication'],
      ['comm to QST', 'Quillstone, communication'],
    ]);
  });
});

describe('readings', () => {
  const parties = new Map<string, Contact>();
  const standing: Contacts = {
    device: (code) => parties.get(code) ?? null,
    outbound: (code) => parties.get(`to ${code}`) ?? null,
    point: (code, address) => parties.get(`${code} ${address}`) ?? null,
  };
  const look = (() => {
    const list = ['comm D', 'comm to O', 'comm D AI 7'].map((text, id) => ({
      ...{ id, kind: 'binary' as const, at: at(text) },
    }));
    const running = source.make(list);
    return () =>
      running.look(standing, 0).map(({ id, raw, quality, time, event }) => ({ id, raw, quality, time, event }));
  })();

  test('at the first look all are told, then each change once, with its own time', () => {
    parties.set('D', { failed: null, since: 1 });
    expect(look()).toEqual([
      { id: 0, raw: 0, quality: Quality.notSet, time: 1, event: false },
      { id: 1, raw: 0, quality: Quality.offline, time: null, event: false },
      { id: 2, raw: 0, quality: Quality.offline, time: null, event: false },
    ]);
    expect(look()).toEqual([]);
    parties.set('D', { failed: true, since: 20 });
    parties.set('to O', { failed: false, since: 21 });
    expect(look()).toEqual([
      { id: 0, raw: 1, quality: 0, time: 20, event: true },
      { id: 1, raw: 0, quality: 0, time: 21, event: true },
    ]);
    parties.set('D AI 7', { failed: true, since: 30 });
    expect(look()).toEqual([{ id: 2, raw: 1, quality: 0, time: 30, event: true }]);
    // Nobody asks the device any more: the last state stands, and is not to be used.
    parties.delete('D');
    expect(look()).toEqual([{ id: 0, raw: 1, quality: Quality.offline, time: null, event: true }]);
  });
});
