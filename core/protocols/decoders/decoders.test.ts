import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { Both, SUBJECTS } from '../sessions/conformance.ts';
import { decoderOf, type Decoder, type Message } from './index.ts';

const NAMED = SUBJECTS.map((subject) => [`${subject.code} ${subject.framing}`.trim(), subject] as const);
/** What is said in a first minute, with a change and a control in it. */
function conversation(subject: (typeof SUBJECTS)[number]): { octets: Uint8Array; fromServer: boolean; at: number }[] {
  const all: { octets: Uint8Array; fromServer: boolean; at: number }[] = [];
  const both = new Both(subject, ['analog', 'output']);
  both.heard = (octets, fromServer) => all.push({ octets, fromServer, at: both.now });
  both.set(100, 0).connect().run(20_000).set(4711).run(5000).operate(1).run(20_000);
  return all;
}
const decoded = (decoder: Decoder, pieces: ReturnType<typeof conversation>): Message[] =>
  pieces.flatMap(({ octets, fromServer, at }) => decoder.push(octets, fromServer ? 'asked' : 'asking', at));
const made = (subject: (typeof SUBJECTS)[number]): Decoder => {
  const decoder = decoderOf(subject.code, subject.framing);
  if (decoder === null) throw new Error('there is none');
  return decoder;
};

describe.each(NAMED)('%s', (_name, subject) => {
  const pieces = conversation(subject);

  test('what both ends say is understood, all of it, with its octets', () => {
    const messages = decoded(made(subject), pieces);
    expect(messages.filter(({ isOdd }) => isOdd).map(({ words }) => words)).toEqual([]);
    expect(messages.length).toBeGreaterThan(10);
    expect(messages.every(({ words, octets }) => words !== '' && octets.length > 0)).toBe(true);
    expect(new Set(messages.map(({ side }) => side))).toEqual(new Set(['asking', 'asked']));
  });

  test('is the same in whatever pieces it comes', () => {
    const words = (all: Message[]): string[] => all.map((one) => `${one.side} ${one.words}`);
    const whole = words(decoded(made(subject), pieces));
    const octets = pieces.flatMap(({ octets: all, ...rest }) =>
      [...all].map((octet) => ({ octets: Uint8Array.of(octet), ...rest })),
    );
    expect(words(decoded(made(subject), octets))).toEqual(whole);
  });

  test('whatever comes, it does not fall', () => {
    fc.assert(
      fc.property(fc.array(fc.tuple(fc.uint8Array({ maxLength: 80 }), fc.boolean()), { maxLength: 20 }), (garbage) => {
        const decoder = made(subject);
        for (const { octets, fromServer } of pieces.slice(0, 6))
          decoder.push(octets, fromServer ? 'asked' : 'asking', 0);
        for (const [octets, asked] of garbage) decoder.push(octets, asked ? 'asked' : 'asking', 0);
      }),
      { numRuns: 40 },
    );
  });

  test('octets that were changed on the way are said to be odd, or are another message: none is made up', () => {
    let odd = 0;
    for (const [at, { octets, fromServer }] of pieces.slice(0, 40).entries()) {
      const decoder = made(subject);
      const spoilt = octets.slice();
      spoilt[(at * 7) % spoilt.length] ^= 0x40;
      const messages = decoder.push(spoilt, fromServer ? 'asked' : 'asking', 0);
      if (messages.some(({ isOdd }) => isOdd) || messages.length === 0) odd++;
    }
    expect(odd).toBeGreaterThan(0);
  });
});

test.each(NAMED.filter(([, { code }]) => code === 'dnp3' || code === 'modbus'))(
  '%s: what brought a value is told in the words that the decoder has for it',
  (_name, subject) => {
    const both = new Both(subject, ['analog', 'output']);
    both.set(100, 0).connect().run(20_000).set(4711).run(5000);
    let told = 0;
    for (const news of both.news) {
      if (news.type !== 'readings') continue;
      for (const one of news.readings) {
        const decoder = made(subject);
        const messages = news.carried.frames(one).flatMap(({ octets }) => decoder.push(octets, 'asked', 0));
        expect(messages).toHaveLength(1);
        // Who speaks to whom, and which transaction it is, the decoder says besides; the trail says which part it is of.
        const said = messages[0].words.replace(/^(\d+ → \d+: |transaction \d+, )/, '');
        expect(news.carried.words().startsWith(said)).toBe(true);
        told++;
      }
    }
    expect(told).toBeGreaterThan(2);
  },
);

test('a protocol without octets has no decoder', () => {
  expect([decoderOf('supervision', ''), decoderOf('jsonlines', '')]).toEqual([null, null]);
});

test('in words of the trade', () => {
  const words = (code: string, framing = ''): string[] => {
    const subject = SUBJECTS.find((one) => one.code === code && one.framing === framing);
    return subject ? decoded(made(subject), conversation(subject)).map((one) => one.words) : [];
  };
  expect(words('dnp3')).toContainEqual(expect.stringMatching(/^10 → 1: response \d+.*g30v\d/));
  expect(words('dnp3')).toContainEqual(expect.stringMatching(/^1 → 10: operate \d+: g12v1 × 1/));
  expect(words('modbus', 'tcp')).toContainEqual(
    expect.stringMatching(/^transaction \d+, unit 1, read input registers/),
  );
  expect(words('modbus', 'rtu')).toContainEqual('unit 1, write single coil');
  expect(words('iec61850')).toContainEqual(expect.stringContaining('association'));
  expect(words('tase2')).toContainEqual('transport: connect');
});
