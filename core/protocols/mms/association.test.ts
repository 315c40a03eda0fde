import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { Pair, settings } from './trials/pair.ts';
import { OTHERS, REQUESTS, RESPONSES } from './trials/samples.ts';
import { Association } from './association.ts';
import { decodePdu, encodePdu, type Pdu } from './wire/pdu.ts';

const ALL: readonly Pdu[] = [...REQUESTS, ...RESPONSES, ...OTHERS];
const wordsOf = (pdu: Pdu): string => ('service' in pdu ? `${pdu.type} ${pdu.service}` : pdu.type);

test.each(ALL.map((pdu) => [wordsOf(pdu), pdu] as const))('%s: reading is the inverse of writing', (_words, pdu) => {
  expect(decodePdu(encodePdu(pdu))).toEqual({ ok: true, value: pdu });
});

describe('an association', () => {
  test('is made, carries messages both ways, and is ended in order', () => {
    const pair = new Pair().start();
    expect([pair.calling.state, pair.called.state]).toEqual(['open', 'open']);
    for (const request of REQUESTS) pair.send('calling', request);
    for (const other of [...RESPONSES, ...OTHERS]) pair.send('called', other);
    expect(pair.pdus('called')).toEqual(REQUESTS);
    expect(pair.pdus('calling')).toEqual([...RESPONSES, ...OTHERS]);
    pair.calling.conclude(pair.now);
    pair.pump();
    expect([pair.closed('calling'), pair.closed('called')]).toEqual(['ended', 'ended there']);
  });

  test('its caller is known by title, selectors and password, and gets what was agreed on', () => {
    const pair = new Pair({ password: 'open sesame' });
    pair.decide = ({ title, password, selectors, agreement }) => {
      expect([title?.title, title?.qualifier, password]).toEqual(['1.1.1.999', 12, 'open sesame']);
      expect([...selectors.presentation]).toEqual([0, 0, 0, 1]);
      return { ...agreement, size: 10_000, called: 2 };
    };
    pair.start();
    const open = pair.news.calling.find((one) => one.type === 'open');
    expect(open).toMatchObject({ agreement: { size: 10_000, calling: 5, called: 2, nesting: 10 } });
  });

  test('who is refused is told why', () => {
    const pair = new Pair({ password: 'wrong' });
    pair.decide = () => ({ diagnostic: 13 });
    pair.start();
    expect(pair.closed('calling')).toBe('the association was refused: the password is wrong');
    expect(pair.closed('called')).toBe('refused');
  });

  test('a selector that is not ours is refused at once', () => {
    const pair = new Pair({ theirs: { ...settings().theirs, transport: Uint8Array.of(9) } }).start();
    expect(pair.closed('calling')).toBe('disconnected: the address is not known there');
  });

  test('large messages go in pieces, however the octets come', () => {
    const pair = new Pair({ tpduSize: 128 });
    let held: number[] = [];
    pair.wire = (octets, fromCaller) => {
      if (!fromCaller) return octets;
      // One octet at a time.
      for (const octet of octets) held.push(octet);
      for (const octet of held) pair.called.receive(Uint8Array.of(octet), pair.now);
      held = [];
      return null;
    };
    pair.start();
    const names = Array.from({ length: 500 }, (_, at) => ({ name: { scope: 'vmd' as const, item: `variable ${at}` } }));
    const request: Pdu = { type: 'request', invoke: 9, service: 'read', request: { variables: { names } } };
    pair.send('calling', request);
    expect(pair.pdus('called')).toEqual([request]);
    expect(pair.sent.filter(({ fromCaller }) => fromCaller).at(-1)?.octets.length).toBeGreaterThan(5000);
  });

  test('nobody answers: it is given up in time', () => {
    const pair = new Pair();
    pair.wire = (_octets, fromCaller) => (fromCaller ? null : _octets);
    pair.start();
    pair.pass(4999);
    expect(pair.closed('calling')).toBeNull();
    pair.pass(1);
    expect(pair.closed('calling')).toBe('the association took too long');
  });

  test('a message that is not well-formed is told of, and the association stands', () => {
    const pair = new Pair().start();
    const good = encodePdu(REQUESTS[5]);
    pair.wire = (octets) => {
      const bad = octets.slice();
      // The tag of the variables, behind that of the read and its length.
      bad[bad.length - good.length + good.indexOf(0xa4) + 2] = 0xa7;
      return bad;
    };
    pair.send('calling', REQUESTS[5]);
    expect(pair.news.called.map(({ type }) => type)).toContain('malformed');
    pair.wire = (octets) => octets;
    pair.send('calling', REQUESTS[0]);
    expect(pair.pdus('called').at(-1)).toEqual(REQUESTS[0]);
  });

  test('more than was agreed on ends it', () => {
    const pair = new Pair({}, { agreement: { ...settings().agreement, size: 1000 } });
    pair.decide = ({ agreement }) => ({ ...agreement, size: 1000 });
    pair.start();
    const name = { scope: 'vmd' as const, item: 'x'.repeat(2000) };
    pair.send('calling', { type: 'request', invoke: 1, service: 'attributes', request: { name } });
    expect(pair.closed('called')).toContain('more than the 1000 octets that were agreed on');
    expect(pair.closed('calling')).toBe('aborted there');
  });
});

describe('hostile octets', () => {
  test('at any state, to either end: an end at most, no exception', () => {
    const honest = new Pair().start();
    for (const pdu of [...REQUESTS.slice(0, 4)]) honest.send('calling', pdu);
    const sent = honest.sent.map(({ octets }) => octets);
    const change = fc.record({
      message: fc.nat(sent.length - 1),
      at: fc.nat(400),
      octet: fc.integer({ min: 0, max: 255 }),
      cut: fc.boolean(),
    });
    fc.assert(
      fc.property(change, fc.uint8Array({ maxLength: 60 }), ({ message, at, octet, cut }, noise) => {
        const pair = new Pair();
        let count = 0;
        pair.wire = (octets) => {
          if (count++ !== message) return octets;
          const changed = octets.slice(0, cut ? at % octets.length : octets.length);
          if (changed.length > 0) changed[at % changed.length] = octet;
          return new Uint8Array([...changed, ...(cut ? noise : [])]);
        };
        pair.start();
        pair.send('calling', REQUESTS[0]);
        pair.pass(6000);
        expect(['open', 'closed']).toContain(pair.calling.state);
      }),
      { numRuns: 1500 },
    );
  });

  test('anything at all as a first message', () => {
    fc.assert(
      fc.property(fc.array(fc.uint8Array({ maxLength: 80 }), { maxLength: 6 }), (pieces) => {
        const called = new Association(settings(), 'called');
        called.start(0);
        for (const piece of pieces) called.receive(Uint8Array.of(3, 0, 0, piece.length + 4, ...piece), 0);
        called.take();
      }),
      { numRuns: 3000 },
    );
  });
});
