import { describe, expect, it } from 'vitest';
import { HopRounds, type Hop } from './hoprounds.ts';

const START = 1_700_000_000_000;

/** Hops with a counter each, and a word that people act on. */
function hopsOf(count: number): { counters: number[]; words: string[]; hops: Hop[]; asked: () => number } {
  const counters = new Array<number>(count).fill(0);
  const words = new Array<string>(count).fill('answering');
  let asked = 0;
  const hops = counters.map((_, i): Hop => ({
    kind: 'device',
    code: `D${i}`,
    essence: () => words[i],
    state: () => {
      asked++;
      return { words: words[i], counter: counters[i] };
    },
  }));
  return { counters, words, hops, asked: () => asked };
}

describe('rounds of hop states', () => {
  it('write what people act on at once, and counters once a second', () => {
    const { counters, words, hops } = hopsOf(3);
    const rounds = new HopRounds();
    const codes = (at: number): string[] => {
      const due = rounds.due(hops, START + at);
      rounds.wrote(due);
      return due.map(({ code }) => code);
    };
    expect(codes(0)).toEqual(['D0', 'D1', 'D2']);
    counters.fill(1);
    expect(codes(250)).toEqual([]);
    words[1] = 'no answer';
    expect(codes(500)).toEqual(['D1']);
    expect(codes(1000)).toEqual(['D0', 'D2']);
    expect(codes(2000)).toEqual([]);
  });

  it('go in parts where there are many hops, and reach each of them', () => {
    const { counters, hops, asked } = hopsOf(2000);
    const rounds = new HopRounds();
    rounds.wrote(rounds.due(hops, START));
    counters.fill(1);
    const reached = new Set<string>();
    for (let at = 250; at <= 4000; at += 250) {
      const before = asked();
      const due = rounds.due(hops, START + at);
      rounds.wrote(due);
      expect(asked() - before).toBeLessThanOrEqual(125);
      for (const { code } of due) reached.add(code);
    }
    expect(reached.size).toBe(2000);
  });

  it('take a second, or two milliseconds for each hop, in parts of a hundred', () => {
    /** How many have their turn so long after all had it. */
    const turns = (count: number, afterMs: number): number => {
      const { hops, counters } = hopsOf(count);
      const rounds = new HopRounds();
      rounds.wrote(rounds.due(hops, START));
      counters.fill(1);
      return rounds.due(hops, START + afterMs).length;
    };
    expect([turns(99, 999), turns(99, 1000)]).toEqual([0, 99]);
    expect([turns(400, 249), turns(400, 250), turns(400, 500)]).toEqual([0, 100, 200]);
    expect([turns(1000, 199), turns(1000, 200), turns(1000, 5000)]).toEqual([0, 100, 1000]);
  });

  it('tell hops of one code apart by their kind', () => {
    const rounds = new HopRounds();
    const hop = (kind: 'device' | 'link', word: string): Hop => ({
      ...{ kind, code: 'X', essence: () => word, state: () => ({ word }) },
    });
    rounds.wrote(rounds.due([hop('device', 'a'), hop('link', 'b')], START));
    expect(rounds.due([hop('device', 'b'), hop('link', 'b')], START + 1)).toEqual([
      { kind: 'device', code: 'X', document: '{"word":"b"}' },
    ]);
  });

  it('go out again when they may not have been written', () => {
    const { hops } = hopsOf(2);
    const rounds = new HopRounds();
    rounds.due(hops, START);
    rounds.failed();
    expect(rounds.due(hops, START + 10)).toHaveLength(2);
  });

  it('write a hop without an essence each time, also unchanged: its age says that the engine lives', () => {
    const rounds = new HopRounds();
    const engine: Hop = { kind: 'engine', code: 'E', essence: null, state: () => ({ revision: 1 }) };
    for (const at of [0, 1, 2]) {
      const due = rounds.due([...hopsOf(2000).hops, engine], START + at);
      rounds.wrote(due);
      expect(due.at(-1)?.code).toBe('E');
    }
    expect(rounds.due([], START + 2)).toEqual([]);
  });
});
