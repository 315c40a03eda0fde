import { beforeEach, describe, expect, test } from 'vitest';
import { SharedStream, type Said, type StreamSource } from './stream.ts';
import { NO_TOPICS, numbersOf, rangesOf, type LiveMessage, type Topics } from './topics.ts';

let now: number;
let opened: { query: string; source: StreamSource & { refused: boolean }; closed: boolean }[];
let stream: SharedStream;

beforeEach(() => {
  now = 1_000_000;
  opened = [];
  stream = new SharedStream(
    (query) => {
      const one = {
        query: decodeURIComponent(query),
        closed: false,
        source: {
          onmessage: null,
          onerror: null,
          refused: false,
          close: () => void (one.closed = true),
        } as StreamSource & {
          refused: boolean;
        },
      };
      opened.push(one);
      return one.source;
    },
    () => now,
    () => {},
  );
});

/** A page that goes on saying what it wants. */
function page(topics: Partial<Topics>) {
  const heard: Said[] = [];
  const listen = (said: Said): void => void heard.push(said);
  const say = (more: Partial<Topics> = topics): void => stream.set(listen, { ...NO_TOPICS, ...more });
  say();
  return { heard, say, leave: () => stream.leave(listen) };
}
function pass(ms: number, ...alive: { say: () => void }[]): void {
  for (const end = now + ms; now < end;) {
    now += Math.min(1000, end - now);
    for (const one of alive) one.say();
    stream.tick();
  }
}
const speak = (message: Partial<LiveMessage> = {}): void =>
  opened.at(-1)?.source.onmessage?.({ data: JSON.stringify({ now, ...message }) });

describe('one stream for all pages', () => {
  test('asks for what they want together, and tells all of them', () => {
    const [a, b] = [page({ points: [3, 1, 2], trail: 7 }), page({ points: [2, 9], journal: true, trail: 8 })];
    pass(100);
    expect(opened.map(({ query }) => query)).toEqual(['points=1-3,9&journal=1&trail=7,8']);
    speak({ draft: 4 });
    for (const { heard } of [a, b]) expect(heard).toEqual([{ type: 'message', message: { now, draft: 4 } }]);
  });

  test('a change of what is wanted, and a newcomer who wants the same, open it anew: the first message has everything', () => {
    const a = page({ points: [1] });
    pass(100);
    a.say({ points: [1] });
    pass(100);
    expect(opened).toHaveLength(1);
    a.say({ points: [2] });
    pass(100);
    expect(opened.map(({ query, closed }) => [query, closed])).toEqual([
      ['points=1', true],
      ['points=2', false],
    ]);
    page({ points: [2] });
    pass(100);
    expect(opened).toHaveLength(3);
  });

  test('who leaves, or says nothing for long, is heard no more; without anybody there is no stream', () => {
    const [a, b] = [page({ points: [1] }), page({ points: [2] })];
    pass(100);
    a.leave();
    b.say();
    pass(1000, b);
    speak();
    expect([a.heard.length, b.heard.length]).toEqual([0, 1]);
    expect(opened[0].closed).toBe(false);
    pass(12_000);
    expect(opened.every(({ closed }) => closed)).toBe(true);
    b.say();
    pass(100);
    expect(opened.at(-1)).toMatchObject({ query: 'points=2', closed: false });
  });

  test('a stream without a word is dead: said, and opened anew', () => {
    const a = page({});
    pass(100);
    pass(4000, a);
    speak();
    pass(5000, a);
    expect(opened).toHaveLength(1);
    pass(3000, a);
    expect(a.heard.map(({ type }) => type)).toEqual(['message', 'lost']);
    expect(opened).toHaveLength(2);
  });

  test('one that is refused is tried again after a pause', () => {
    const a = page({});
    pass(100);
    opened[0].source.refused = true;
    opened[0].source.onerror?.();
    expect(a.heard).toEqual([{ type: 'refused' }]);
    pass(1000, a);
    expect(opened).toHaveLength(1);
    pass(1500, a);
    expect(opened).toHaveLength(2);
  });
});

test('numbers go as ranges and come back; what is no range is left out, and there is a limit', () => {
  expect(rangesOf([1, 2, 3, 7, 9, 10])).toBe('1-3,7,9-10');
  expect(numbersOf('1-3,7,9-10', 100)).toEqual([1, 2, 3, 7, 9, 10]);
  expect(numbersOf('x,-3,5-,4,1-999999999', 5)).toEqual([4, 1, 2, 3, 4]);
  expect(numbersOf('', 5)).toEqual([]);
});
