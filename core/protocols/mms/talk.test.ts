import fc from 'fast-check';
import { beforeEach, describe, expect, test } from 'vitest';
import type { MmsObjects } from './server.ts';
import { Talk } from './trials/talk.ts';
import { REQUESTS } from './trials/samples.ts';
import type { Data, TypeOf } from './wire/data.ts';
import { nameWords, type ObjectName } from './wire/names.ts';
import type { JournalEntry } from './wire/journals.ts';
import type { Variable } from './wire/services.ts';

const FLOAT: TypeOf = { type: 'float', width: 32, exponent: 8 };
const NAMES = Array.from({ length: 3000 }, (_, at) => `GGIO1$MX$AnIn${at}$mag$f`).sort();
const inDomain = (item: string): ObjectName => ({ scope: 'domain', domain: 'LD0', item });
const variable = (item: string): Variable => ({ name: inDomain(item) });
const CONTENT = Uint8Array.from({ length: 5000 }, (_, at) => at & 0xff);

/** So many minutes after 23:30 of the first day of 1984: milliseconds of the day, then days. */
function minute(at: number): Uint8Array {
  const view = new DataView(new ArrayBuffer(6));
  const all = (23 * 60 + 30 + at) * 60_000;
  view.setUint32(0, all % 86_400_000);
  view.setUint16(4, Math.floor(all / 86_400_000));
  return new Uint8Array(view.buffer);
}

class Objects implements MmsObjects {
  readonly identity = { vendor: 'The bench', model: 'IED', revision: '1' };
  readonly values = new Map<string, Data>(NAMES.map((name, at) => [name, { type: 'float', value: at, width: 32 }]));
  readonly lists = new Map<string, readonly Variable[]>([['LD0/LLN0$fixed', [variable(NAMES[0]), variable(NAMES[1])]]]);
  readonly writes: ((error: number | null) => void)[] = [];
  holdWrites = false;
  readonly files = {
    directory: (name: string) =>
      name === '/none'
        ? null
        : Array.from({ length: 90 }, (_, at) => ({
            name: `REC${100 + at}.DAT`,
            attributes: { size: 5000, modified: '' },
          })),
    content: (name: string) =>
      name.startsWith('REC') ? { octets: CONTENT, attributes: { size: CONTENT.length, modified: '' } } : null,
    delete: () => null,
  };

  /** An entry a minute. */
  readonly entries: JournalEntry[] = Array.from({ length: 60 }, (_, at) => ({
    ...{ id: Uint8Array.of(at + 1), time: minute(at) },
    variables: [{ tag: `GGIO1$ST$Ind${at}`, value: { type: 'boolean', value: true } }],
  }));
  journal(name: ObjectName): JournalEntry[] | null {
    return name.item === 'LLN0$EventLog' ? this.entries : null;
  }

  names(of: string, domain: string | null): readonly string[] | null {
    if (of === 'domain') return ['LD0'];
    if (domain !== 'LD0') return domain === null ? [] : null;
    return of === 'variable' ? NAMES : [];
  }
  typeOf(name: ObjectName): TypeOf | null {
    return this.values.has(name.item) ? FLOAT : null;
  }
  read({ name }: Variable) {
    return this.values.get(name.item) ?? { type: 'failure' as const, code: 10 };
  }
  write({ name }: Variable, value: Data, done: (error: number | null) => void): void {
    if (!this.values.has(name.item)) return done(10);
    if (value.type !== 'float') return done(7);
    this.values.set(name.item, value);
    if (this.holdWrites) this.writes.push(done);
    else done(null);
  }
  list(name: ObjectName) {
    const variables = this.lists.get(nameWords(name));
    return variables ? { variables, deletable: !name.item.endsWith('fixed') } : null;
  }
  defineList(name: ObjectName, variables: readonly Variable[]) {
    if (this.lists.has(nameWords(name))) return { class: 2, code: 5, words: '' };
    this.lists.set(nameWords(name), variables);
    return null;
  }
  deleteList(name: ObjectName): boolean {
    return !name.item.endsWith('fixed') && this.lists.delete(nameWords(name));
  }
}

let objects: Objects;
let talk: Talk;
beforeEach(() => {
  objects = new Objects();
  talk = new Talk(objects, {}, (agreement) => ({ ...agreement, size: 2000 })).start();
});
const words = (answer: { ok: boolean; words?: string } | null): string | null =>
  answer === null ? null : (answer.words ?? '');

describe('a client and a server', () => {
  test('all names, in as many parts as it takes', () => {
    const found: string[] = [];
    let parts = 0;
    for (let more = true; more; parts++) {
      const answer = talk.ask('nameList', { class: 'variable', domain: 'LD0', after: found.at(-1) ?? null });
      if (!answer?.ok) throw new Error(String(words(answer)));
      found.push(...answer.response.names);
      more = answer.response.more;
    }
    expect([found, parts]).toEqual([NAMES, expect.any(Number)]);
    expect(parts).toBeGreaterThan(20);
    expect(words(talk.ask('nameList', { class: 'variable', domain: 'nowhere', after: null }))).toBe('no such object');
  });

  test('values and their types are read, alone and by a list', () => {
    expect(talk.ask('attributes', { name: inDomain(NAMES[5]) })).toEqual({
      ok: true,
      response: { deletable: false, of: FLOAT },
    });
    expect(talk.ask('read', { variables: { names: [variable(NAMES[7]), variable('none')] } })).toEqual({
      ok: true,
      response: {
        results: [
          { type: 'float', value: 7, width: 32 },
          { type: 'failure', code: 10 },
        ],
      },
    });
    const list = inDomain('LLN0$mine');
    expect(talk.ask('defineList', { name: list, names: NAMES.slice(0, 3).map(variable) })?.ok).toBe(true);
    expect(words(talk.ask('defineList', { name: list, names: [] }))).toBe('there is one already');
    const read = talk.ask('read', { variables: { list } });
    expect(read?.ok && read.response.results.map((one) => one.type === 'float' && one.value)).toEqual([0, 1, 2]);
    const names = [list, inDomain('LLN0$fixed'), inDomain('LLN0$none')];
    expect(talk.ask('deleteList', { names })).toMatchObject({ response: { matched: 2, deleted: 1 } });
  });

  test('an answer that is larger than agreed on is an error, not a broken association', () => {
    objects.lists.set('LD0/LLN0$long', NAMES.slice(0, 300).map(variable));
    const answer = talk.ask('read', { variables: { list: inDomain('LLN0$long') } });
    expect(words(answer)).toContain('the answer is larger than agreed on');
    expect(talk.ask('identify', {})?.ok).toBe(true);
  });

  test('a request that is larger than agreed on is not sent', () => {
    const names = NAMES.slice(0, 300).map(variable);
    expect(words(talk.ask('read', { variables: { names } }))).toMatch(
      /^the request has \d+ octets, more than agreed on/,
    );
  });

  test('a write is answered when the owner is done with it; others go on meanwhile', () => {
    objects.holdWrites = true;
    const value: Data = { type: 'float', value: 99, width: 32 };
    const answers: unknown[] = [];
    talk.client.ask(
      'write',
      { variables: { names: [variable(NAMES[0]), variable('none')] }, values: [value, value] },
      (answer) => answers.push(answer),
      talk.now,
    );
    talk.pump();
    expect(talk.ask('identify', {})).toMatchObject({ response: { model: 'IED' } });
    expect(answers).toEqual([]);
    objects.writes[0](null);
    talk.pump();
    expect(answers).toEqual([{ ok: true, response: { results: [null, 10] } }]);
  });

  test('a file comes whole, in parts', () => {
    const listed = talk.ask('fileDirectory', { name: '', after: '' });
    expect(listed?.ok && [listed.response.entries.length < 90, listed.response.more]).toEqual([true, true]);
    const opened = talk.ask('fileOpen', { name: 'REC101.DAT', from: 10 });
    if (!opened?.ok) throw new Error('not open');
    const { handle } = opened.response;
    const octets: number[] = [];
    for (let more = true; more;) {
      const answer = talk.ask('fileRead', { handle });
      if (!answer?.ok) throw new Error(String(words(answer)));
      octets.push(...answer.response.data);
      more = answer.response.more;
    }
    expect(octets).toEqual([...CONTENT.subarray(10)]);
    expect(talk.ask('fileClose', { handle })?.ok).toBe(true);
    expect(words(talk.ask('fileRead', { handle }))).toBe('no such file');
    expect(words(talk.ask('fileOpen', { name: 'x', from: 0 }))).toBe('no such file');
  });

  test('a journal is read from a time, up to one, behind an entry, and so many; across midnight', () => {
    const read = (range: object): number[] | string => {
      const answer = talk.ask('readJournal', { name: inDomain('LLN0$EventLog'), ...range });
      return answer?.ok ? answer.response.entries.map(({ id }) => id[0]) : String(words(answer));
    };
    expect(read({ from: { time: minute(29) }, to: { time: minute(31) } })).toEqual([30, 31, 32]);
    expect(read({ from: { entry: Uint8Array.of(59) } })).toEqual([59, 60]);
    expect(read({ from: { entry: Uint8Array.of(77) } })).toBe('no such object');
    expect(read({ after: { time: minute(57), entry: Uint8Array.of(58) } })).toEqual([59, 60]);
    // The entry has gone: what is behind its time.
    expect(read({ after: { time: minute(57), entry: Uint8Array.of(99) } })).toEqual([59, 60]);
    expect(read({ to: { count: 3 } })).toEqual([1, 2, 3]);
    expect(read({ from: { time: minute(60) } })).toEqual([]);
    const first = talk.ask('readJournal', { name: inDomain('LLN0$EventLog') });
    expect(first?.ok && [first.response.more, first.response.entries.length < 60]).toEqual([true, true]);
    expect(talk.ask('journalStatus', { name: inDomain('LLN0$EventLog') })).toMatchObject({ response: { entries: 60 } });
    expect(words(talk.ask('initializeJournal', { name: inDomain('LLN0$EventLog'), upTo: null }))).toBe('access denied');
  });

  test('as many requests are under way as were agreed on, and all are answered', () => {
    const own = new Talk(objects, {}, (agreement) => ({ ...agreement, called: 2 })).start();
    objects.holdWrites = true;
    let done = 0;
    const value: Data = { type: 'float', value: 1, width: 32 };
    for (let at = 0; at < 10; at++)
      own.client.ask('write', { variables: { names: [variable(NAMES[at])] }, values: [value] }, () => done++, own.now);
    own.pump();
    expect(objects.writes).toHaveLength(2);
    for (let at = 0; at < 10; at++) {
      objects.writes[at](null);
      own.pump();
    }
    expect([done, own.client.atRest]).toEqual([10, true]);
  });

  test('a report comes unasked', () => {
    const results = [{ type: 'boolean' as const, value: true }];
    expect(talk.server.report({ list: { scope: 'vmd', item: 'RPT' } }, results)).toBe(true);
    talk.pump();
    expect(talk.told).toMatchObject([{ results }]);
    const much = Array.from({ length: 3000 }, () => results[0]);
    expect(talk.server.report({ list: { scope: 'vmd', item: 'RPT' } }, much)).toBe(false);
  });
});

describe('when nothing comes', () => {
  test('a request ends in time, a late answer is no other one’s, and three in a row end the association', () => {
    const held: Uint8Array[] = [];
    talk.wire = (octets, fromClient) => {
      if (fromClient) return octets;
      held.push(octets);
      return null;
    };
    const first: (string | null)[] = [];
    talk.client.ask('identify', {}, (answer) => first.push(words(answer)), talk.now);
    talk.pump();
    talk.pass(2000);
    expect(first).toEqual(['no answer in 2000 ms']);
    talk.wire = (octets) => octets;
    talk.client.receive(held[0], talk.now);
    talk.pump();
    expect(talk.client.counts).toMatchObject({ timeouts: 1, odd: 1 });
    expect(talk.ask('identify', {})?.ok).toBe(true);
    talk.wire = (octets, fromClient) => (fromClient ? octets : null);
    for (let at = 0; at < 3; at++) talk.client.ask('identify', {}, () => {}, talk.now);
    talk.pump();
    talk.pass(2000);
    expect(talk.news.client.at(-1)).toMatchObject({ type: 'closed', words: 'no answer to 3 requests' });
  });

  test('with the connection everything that waits ends, and what was sent is unknown', () => {
    talk.wire = () => null;
    const ended: boolean[] = [];
    for (let at = 0; at < 7; at++)
      talk.client.ask('identify', {}, (answer) => ended.push(!answer.ok && answer.lost), talk.now);
    talk.pump();
    talk.client.lost(talk.now);
    expect(ended).toEqual([true, true, true, true, true, false, false]);
  });

  test('without an association nothing is sent', () => {
    const own = new Talk(objects);
    expect(words(own.ask('identify', {}))).toBe('there is no association; nothing was sent');
  });
});

test('whatever a peer sends in an association: it stands, or is ended with words', () => {
  const message = fc.record({
    of: fc.nat(REQUESTS.length - 1),
    at: fc.nat(300),
    octet: fc.integer({ min: 0, max: 255 }),
  });
  fc.assert(
    fc.property(fc.array(message, { maxLength: 8 }), fc.boolean(), (changes, towardsServer) => {
      const own = new Talk(new Objects(), {}, (agreement) => ({ ...agreement, size: 2000 })).start();
      for (const { of, at, octet } of changes) {
        own.wire = (octets, fromClient) => {
          if (fromClient !== towardsServer) return octets;
          const changed = octets.slice();
          // Not the packet's own length: that only waits for more.
          changed[4 + (at % (changed.length - 4))] = octet;
          return changed;
        };
        const { service, request } = REQUESTS[of];
        own.client.ask(service, request as never, () => {}, own.now);
        own.pump();
      }
      own.pass(2000);
      own.pass(2000);
      expect(own.client.isOpen || own.news.client.some(({ type }) => type === 'closed')).toBe(true);
    }),
    { numRuns: 1500 },
  );
});
