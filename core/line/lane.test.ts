import { beforeEach, describe, expect, test } from 'vitest';
import { Lane, type LaneEffect } from './lane.ts';
import { Priority, type Framing, type Party, type Wish } from './party.ts';
import { NO_LINE_TIMING, octetMs, type LineTiming } from './timing.ts';

/* The rules at the head of `lane.ts`, with parties that do as they are told, in virtual time. */

type News = { type: 'answered' } | { type: 'said'; words: string };
/** What stands on the line: whom it is from, and its octets; nobody can read a broken one. */
interface Heard {
  from: number;
  broken?: boolean;
}

const framing = (gapMs = 0): Framing<Heard> & { resets: number } => ({
  ...{ gapMs, resets: 0 },
  reset() {
    this.resets++;
  },
  push: (octets) => [...octets].map((octet) => (octet === 0xff ? { from: 0, broken: true } : { from: octet })),
  isFrame: ({ broken }) => broken !== true,
});

class Fake implements Party<string, News, Heard> {
  share = 1;
  deadline: number | null = null;
  holdsLine = false;
  wish: Wish | null = null;
  /** What it asks is answered; otherwise it sends and is done. */
  asks = true;
  octets = 10;
  readonly did: string[] = [];
  private out: (News | { type: 'send'; octets: Uint8Array })[] = [];

  constructor(readonly number: number) {}

  words: string | null = null;

  want(priority: number, since = now): void {
    this.wish = { priority: priority as Priority, since, words: this.words ?? `wish of ${this.number}` };
  }
  send(octets = this.octets): void {
    this.out.push({ type: 'send', octets: new Uint8Array(octets) });
  }
  say(words: string): void {
    this.out.push({ type: 'said', words });
  }

  start = (): unknown => this.did.push('start');
  stop = (): void => {
    this.did.push('stop');
    this.holdsLine = false;
    this.wish = null;
  };
  wake = (at: number): void => {
    this.did.push(`wake ${at}`);
    this.deadline = null;
    // Its time is over.
    this.holdsLine = false;
  };
  command = (command: string): unknown => this.did.push(command);
  take = () => this.out.splice(0);
  wants = (): Wish | null => this.wish;
  grant = (at: number, begins: number): void => {
    this.did.push(`grant ${at} ${begins}`);
    this.wish = null;
    this.send();
    this.holdsLine = this.asks || this.holdsLine;
  };
  octetsArrive = (): unknown => this.did.push('octets');
  owns = ({ from }: Heard): boolean => from === this.number;
  receiveEvent = ({ from, broken }: Heard): void => {
    this.did.push(broken ? 'broken' : `event ${from}`);
    if (broken) return;
    if (this.holdsLine) this.out.push({ type: 'answered' });
    this.holdsLine = false;
  };
  strangerHeard = ({ from }: Heard): unknown => this.did.push(`stranger ${from}`);
}

let now: number;
let lane: Lane<string, News, Heard>;
let frames: ReturnType<typeof framing>;
let parties: Fake[];
beforeEach(() => void (now = 1000));

function begin(count: number, timing: Partial<LineTiming> = {}, gapMs = 0): void {
  frames = framing(gapMs);
  lane = new Lane({ ...NO_LINE_TIMING, ...timing }, frames, now);
  parties = Array.from({ length: count }, (_, i) => new Fake(i + 1));
  for (const party of parties) lane.add(`D${party.number}`, party, now);
  lane.start(now);
  for (const party of parties) party.did.length = 0;
}
const poke = (): LaneEffect<News>[] => {
  lane.wake(now);
  return lane.take();
};
const sent = (effects: LaneEffect<News>[]): string[] =>
  effects.flatMap((effect) => (effect.type === 'send' ? `${effect.device} ${effect.octets.length}` : []));
const turns = (effects: LaneEffect<News>[]) => effects.flatMap((effect) => (effect.type === 'turn' ? effect.turn : []));
const keys = (effects: LaneEffect<News>[]) => effects.flatMap((effect) => (effect.type === 'key' ? effect.on : []));
const hear = (...octets: number[]): LaneEffect<News>[] => {
  lane.receive(Uint8Array.from(octets), now);
  return lane.take();
};

/** A party asks, and is answered so much later. */
const use = (party: Fake, ms: number): void => {
  party.want(Priority.events);
  poke();
  now += ms;
  hear(party.number);
};

describe('fractions of a millisecond', () => {
  test('a silence is as long as it has to be, wherever in a millisecond it begins; parties live by whole ones', () => {
    begin(1, {}, 1.75);
    parties[0].want(Priority.events);
    poke();
    parties[0].want(Priority.events);
    now = 1030.9;
    hear(1);
    // By whole milliseconds it would be over at 1032: after 1.1 ms.
    expect(lane.deadline).toBeCloseTo(1032.65, 6);
    now = 1032.6;
    expect(sent(poke())).toEqual([]);
    now = 1032.7;
    const effects = poke();
    expect(sent(effects)).toEqual(['D1 10']);
    expect(parties[0].did.filter((did) => did.startsWith('grant')).at(-1)).toBe('grant 1032 1032.7');
    now = 1040.2;
    expect(turns(hear(1)).map(({ began, ended }) => [began, ended])).toEqual([[1032, 1040]]);
  });
});

test('a party whose deadline is a part of a millisecond is woken when a whole one has passed it', () => {
  begin(1);
  parties[0].deadline = 1100.5;
  now = 1000.25;
  poke();
  expect(lane.deadline).toBe(1101);
  now = 1101;
  const before = parties[0].did.length;
  poke();
  expect(parties[0].did.slice(before)).toEqual(['wake 1101']);
});

describe('one at a time', () => {
  test('who asks holds the line until its answer is there', () => {
    begin(2);
    parties[0].want(Priority.events);
    parties[1].want(Priority.events);
    expect(sent(poke())).toEqual(['D1 10']);
    expect(sent(poke())).toEqual([]);
    now += 30;
    const effects = hear(1);
    expect(sent(effects)).toEqual(['D2 10']);
    expect(turns(effects)).toEqual([
      {
        ...{ device: 'D1', words: 'wish of 1', began: 1000, ended: 1030, waitingMs: 30, sendingMs: 0, receivingMs: 0 },
        outcome: 'answered',
      },
    ]);
    expect(effects).toContainEqual({ type: 'device', device: 'D1', effect: { type: 'answered' } });
  });

  test('or until its time-out has passed: then it was silent', () => {
    begin(2);
    parties[0].want(Priority.events);
    poke();
    parties[0].deadline = now + 500;
    parties[1].want(Priority.events);
    poke();
    expect(lane.deadline).toBe(1500);
    now = 1499;
    expect(sent(poke())).toEqual([]);
    now = 1500;
    const effects = poke();
    expect(turns(effects)[0]).toMatchObject({ device: 'D1', outcome: 'silent', waitingMs: 500 });
    expect(sent(effects)).toEqual(['D2 10']);
    expect(lane.numbers().devices['D1']).toMatchObject({ turns: 1, silentTurns: 1 });
  });

  test('who asks for nothing lets go at once', () => {
    begin(2);
    for (const party of parties) {
      party.asks = false;
      party.want(Priority.background);
    }
    const effects = poke();
    expect(sent(effects)).toEqual(['D1 10', 'D2 10']);
    expect(turns(effects).map(({ outcome }) => outcome)).toEqual(['sent', 'sent']);
  });

  test('the confirm of the holder goes within its turn; any other wish of it waits', () => {
    begin(2);
    parties[0].want(Priority.events);
    poke();
    parties[1].want(Priority.control);
    parties[0].want(Priority.control);
    expect(sent(poke())).toEqual([]);
    parties[0].want(Priority.confirm);
    expect(sent(poke())).toEqual(['D1 10']);
    expect(lane.numbers().turns).toBe(0);
  });
});

describe('whose turn is next', () => {
  const orderOf = (wishes: [number, number?][], shares: number[] = []): string[] => {
    begin(wishes.length);
    wishes.forEach(([priority, since], i) => {
      parties[i].asks = false;
      parties[i].share = shares[i] ?? 1;
      parties[i].want(priority, since);
    });
    const queue = lane.queue(now).map(({ device }) => device);
    expect(sent(poke()).map((words) => words.split(' ')[0])).toEqual(queue);
    return queue;
  };

  test('the most urgent first', () => {
    const { control, confirm, events, integrity, background } = Priority;
    expect(orderOf([[background], [integrity], [events], [confirm], [control]])).toEqual([
      ...['D5', 'D4', 'D3', 'D2', 'D1'],
    ]);
  });

  test('of equals whoever waits longest', () => {
    expect(
      orderOf([
        [Priority.events, 990],
        [Priority.events, 980],
      ]),
    ).toEqual(['D2', 'D1']);
  });

  test('ten seconds of waiting make a wish one step more urgent, but never more than events', () => {
    now = 100_000;
    expect(
      orderOf([
        [Priority.integrity, 99_999],
        [Priority.background, 90_001],
      ]),
    ).toEqual(['D1', 'D2']);
    expect(
      orderOf([
        [Priority.integrity, 99_999],
        [Priority.background, 90_000],
      ]),
    ).toEqual(['D2', 'D1']);
    expect(
      orderOf([
        [Priority.confirm, 99_999],
        [Priority.background, 1],
      ]),
    ).toEqual(['D1', 'D2']);
    expect(
      orderOf([
        [Priority.control, 99_999],
        [Priority.events, 1],
      ]),
    ).toEqual(['D1', 'D2']);
  });

  test('among equals whoever had least of the line, by its share', () => {
    begin(2);
    parties[0].share = 4;
    use(parties[0], 300);
    use(parties[1], 100);
    for (const party of parties) party.want(Priority.events);
    // 300 ms of a share of four are 75.
    expect(lane.queue(now).map(({ device }) => device)).toEqual(['D1', 'D2']);
    expect(lane.numbers().devices['D1']).toMatchObject({ lineMs: 300, turns: 1 });
    use(parties[0], 200);
    for (const party of parties) party.want(Priority.events);
    expect(lane.queue(now).map(({ device }) => device)).toEqual(['D2', 'D1']);
  });

  test('waiting for one that is silent is not its use of the line', () => {
    begin(2, { bitRate: 10_000 });
    parties[0].want(Priority.events);
    poke();
    parties[0].deadline = now + 5000;
    now += 5000;
    poke();
    expect(lane.numbers().devices['D1'].lineMs).toBe(10);
  });

  test('who rested gets at most a fifth of a second of what it did not use', () => {
    begin(2);
    use(parties[1], 10);
    for (let i = 0; i < 5; i++) use(parties[0], 400);
    use(parties[1], 0);
    expect(lane.numbers().devices['D2'].lineMs).toBe(1800);
  });

  test('how far apart its polls are is told of each device', () => {
    begin(1);
    for (const [at, priority] of [
      [1000, Priority.events],
      [1200, Priority.background],
      [1700, Priority.integrity],
    ] as const) {
      now = at;
      parties[0].want(priority);
      poke();
      hear(1);
    }
    expect(lane.numbers().devices['D1']).toMatchObject({ cycleMs: 700, turns: 3 });
    now = 1800;
    parties[0].want(Priority.control);
    poke();
    hear(1);
    expect(lane.numbers().devices['D1'].cycleMs).toBe(700);
  });
});

test('of several polls of a device the time between two turns is not how often it is asked', () => {
  begin(1);
  for (let n = 0; n < 6; n++) {
    now = 1000 + n * 250;
    parties[0].words = `block ${n % 3}`;
    parties[0].want(Priority.events);
    poke();
    hear(1);
  }
  expect(lane.numbers().devices['D1'].cycleMs).toBe(750);
});

describe('what comes', () => {
  test('goes to the party whose it is, whoever holds the line', () => {
    begin(3);
    parties[0].want(Priority.events);
    poke();
    hear(2);
    expect(parties[1].did).toEqual(['event 2']);
    expect(parties[0].did).toEqual(['grant 1000 1000', 'octets']);
    expect(parties[2].did).toEqual([]);
  });

  test('what nobody can read counts for the line, and is told to the holder', () => {
    begin(1);
    hear(0xff);
    expect(parties[0].did).toEqual([]);
    parties[0].want(Priority.events);
    poke();
    hear(0xff, 0xff);
    expect(parties[0].did.filter((one) => one === 'broken')).toHaveLength(2);
    expect(lane.numbers().badFrames).toBe(3);
  });

  test('a stranger is told to the holder, and the line rests', () => {
    begin(1, { quietMs: 50 });
    parties[0].want(Priority.events);
    poke();
    hear(9);
    expect(parties[0].did).toContain('stranger 9');
    expect(lane.numbers().otherFrames).toBe(1);
    hear(1);
    parties[0].want(Priority.events);
    expect(sent(poke())).toEqual([]);
    expect(lane.deadline).toBe(1050);
    now = 1050;
    expect(sent(poke())).toEqual(['D1 10']);
  });

  test('a line that is down hears nothing', () => {
    begin(1);
    lane.stop(now);
    hear(1);
    expect(parties[0].did).toEqual(['stop']);
    lane.start(now);
    expect(frames.resets).toBe(2);
    hear(1);
    expect(parties[0].did).toEqual(['stop', 'start', 'event 1']);
  });
});

describe('time on the line', () => {
  test('an octet takes its bits; without a rate it takes none', () => {
    expect(octetMs({ ...NO_LINE_TIMING, bitRate: 9600, bitsPerOctet: 11 })).toBeCloseTo(1.1458, 4);
    expect(octetMs(NO_LINE_TIMING)).toBe(0);
  });

  test('what is sent while ours is on the line follows it without a gap, and counts for the turn', () => {
    begin(1, { bitRate: 10_000 });
    parties[0].want(Priority.events);
    poke();
    expect(parties[0].did).toEqual(['grant 1000 1000']);
    now = 1004;
    parties[0].want(Priority.confirm);
    poke();
    expect(parties[0].did[1]).toBe('grant 1004 1010');
    now = 1100;
    const [turn] = turns(hear(1));
    expect(turn).toMatchObject({ sendingMs: 20, receivingMs: 1, waitingMs: 79, ended: 1100 });
    expect(lane.numbers()).toMatchObject({ sendingMs: 20, receivingMs: 1, waitingMs: 79, turns: 1, turningMs: 0 });
  });

  test('frames keep the distance that the framing wants', () => {
    begin(1, {}, 4);
    parties[0].want(Priority.events);
    poke();
    parties[0].want(Priority.events);
    expect(sent(hear(1))).toEqual([]);
    expect(lane.deadline).toBe(1004);
    now = 1004;
    expect(sent(poke())).toEqual(['D1 10']);
  });

  test('a turn of one that only sends ends when its octets are out', () => {
    begin(1, { bitRate: 10_000 });
    parties[0].asks = false;
    parties[0].want(Priority.background);
    expect(turns(poke())[0]).toMatchObject({ ended: 1010, sendingMs: 10, waitingMs: 0, outcome: 'sent' });
  });
});

describe('a radio', () => {
  const RADIO = { bitRate: 10_000, keyUpMs: 20, keyDownMs: 5, quietMs: 30 };

  test('is keyed before the octets go, and let go after the last one', () => {
    begin(1, RADIO);
    parties[0].want(Priority.events);
    let effects = poke();
    expect([keys(effects), sent(effects), lane.deadline]).toEqual([[true], [], 1020]);
    now = 1020;
    effects = poke();
    expect([keys(effects), sent(effects), lane.deadline]).toEqual([[], ['D1 10'], 1035]);
    now = 1034;
    expect(keys(poke())).toEqual([]);
    now = 1035;
    expect(keys(poke())).toEqual([false]);
    expect(lane.numbers().turningMs).toBe(25);
  });

  test('is let go when nobody wants to send any more', () => {
    begin(1, RADIO);
    parties[0].want(Priority.events);
    poke();
    parties[0].wish = null;
    now = 1019;
    expect(keys(poke())).toEqual([]);
    now = 1020;
    expect(keys(poke())).toEqual([false]);
  });

  test('waits until the other end has let go of its own', () => {
    begin(1, RADIO);
    parties[0].want(Priority.events);
    poke();
    now = 1020;
    poke();
    now = 1100;
    parties[0].want(Priority.events);
    hear(1);
    expect(lane.deadline).toBe(1105);
    now = 1105;
    expect(keys(poke())).toEqual([true]);
  });

  test('is let go when the line goes down', () => {
    begin(1, RADIO);
    parties[0].want(Priority.events);
    poke();
    lane.stop(now);
    expect(keys(lane.take())).toEqual([false]);
    lane.stop(now);
    expect(keys(lane.take())).toEqual([]);
  });
});

describe('who takes part', () => {
  test('one that comes while the line is up begins at once, where the others are', () => {
    begin(1);
    parties[0].want(Priority.events);
    poke();
    now += 100;
    hear(1);
    const late = new Fake(2);
    lane.add('D2', late, now);
    expect(late.did[0]).toBe('start');
    expect(lane.numbers().devices['D2'].lineMs).toBe(100);
    expect(lane.devices).toEqual(['D1', 'D2']);
  });

  test('one that comes gets a free line at once', () => {
    begin(1);
    const late = new Fake(2);
    late.want(Priority.events);
    lane.add('D2', late, now);
    expect(sent(lane.take())).toEqual(['D2 10']);
  });

  test('one that goes ends its turn, and what it still says is passed on', () => {
    begin(2);
    parties[0].want(Priority.events);
    poke();
    parties[1].want(Priority.events);
    parties[0].say('farewell');
    lane.remove('D1', now);
    const effects = lane.take();
    expect(effects).toContainEqual({ type: 'device', device: 'D1', effect: { type: 'said', words: 'farewell' } });
    expect(turns(effects)).toHaveLength(1);
    expect(sent(effects)).toEqual(['D2 10']);
    lane.remove('D1', now);
    expect(lane.devices).toEqual(['D2']);
  });

  test('a command goes to the one that it is for', () => {
    begin(2);
    lane.command({ device: 'D2', command: 'poll' }, now);
    lane.command({ device: 'D9', command: 'poll' }, now);
    expect(parties.map(({ did }) => did)).toEqual([[], ['poll']]);
  });

  test('each is woken when it is due, and the lane with the first of them', () => {
    begin(2);
    parties[0].deadline = 1300;
    parties[1].deadline = 1200;
    poke();
    expect(lane.deadline).toBe(1200);
    now = 1200;
    poke();
    expect(parties.map(({ did }) => did)).toEqual([[], ['wake 1200']]);
    expect(lane.deadline).toBe(1300);
  });

  test('what waits to be sent is gone with the line', () => {
    begin(1, { keyUpMs: 20 });
    parties[0].send();
    poke();
    lane.stop(now);
    lane.start(now);
    now = 1100;
    expect(sent(poke())).toEqual([]);
  });
});
