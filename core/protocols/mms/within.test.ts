import { describe, expect, test } from 'vitest';
import { isForClient, Within } from './within.ts';
import { decodePdu, encodePdu, type Pdu } from './wire/pdu.ts';

const NOW = 1_000_000;
const make = (): Within => {
  const within = new Within({ octets: 4000, requests: 3 });
  within.start(NOW);
  return within;
};
const status: Pdu = { type: 'request', invoke: 7, service: 'status', request: { extended: false } };
const error = { class: 0, code: 0, words: '' };

describe('an association within another one’s', () => {
  test('stands from its beginning, with the terms of its host', () => {
    const within = make();
    expect(within.state).toBe('open');
    expect(within.take()).toMatchObject([{ type: 'open', agreement: { size: 4000, calling: 3, called: 3 } }]);
    expect(within.take()).toEqual([]);
  });

  test('sends and takes whole messages, without the layers below', () => {
    const within = make();
    within.take();
    within.send(status);
    const [sent] = within.take();
    expect(sent).toMatchObject({ type: 'send' });
    const octets = sent.type === 'send' ? sent.octets : new Uint8Array();
    expect(decodePdu(octets)).toMatchObject({ ok: true, value: { type: 'request', invoke: 7 } });
    within.receive(octets, NOW);
    expect(within.take()).toMatchObject([{ type: 'pdu', pdu: { type: 'request', invoke: 7 }, octets }]);
  });

  test('tells what is not well-formed, and goes on', () => {
    const within = make();
    within.take();
    within.receive(Uint8Array.of(0xa0, 0x7f, 1), NOW);
    expect(within.take()).toMatchObject([{ type: 'malformed' }]);
    expect(within.state).toBe('open');
  });

  test('is over once, and says nothing any more', () => {
    for (const end of ['abort', 'conclude', 'refuse'] as const) {
      const within = make();
      within.take();
      if (end === 'abort') within.abort('enough');
      else if (end === 'conclude') within.conclude();
      else within.refuse(13, 'no');
      within.abort('again');
      within.send(status);
      within.receive(encodePdu(status), NOW);
      expect(within.take()).toMatchObject([{ type: 'closed', byUs: true }]);
    }
  });
});

test.each<[Pdu, boolean | null]>([
  [status, false],
  [{ type: 'cancel', invoke: 1 }, false],
  [{ type: 'response', invoke: 1, service: 'status', response: { logical: 0, physical: 0 } }, true],
  [{ type: 'error', invoke: 1, error }, true],
  [{ type: 'cancelled', invoke: 1 }, true],
  [{ type: 'cancelError', invoke: 1, error }, true],
  [{ type: 'reject', invoke: 1, kind: 1, code: 1 }, true],
  [{ type: 'reject', invoke: 1, kind: 2, code: 1 }, false],
  [{ type: 'reject', invoke: 1, kind: 3, code: 1 }, false],
  [{ type: 'reject', invoke: null, kind: 5, code: 1 }, null],
  [{ type: 'report', variables: { names: [] }, results: [] }, null],
])('whose a message is, of two that speak in one association: %j', (pdu, forClient) =>
  expect(isForClient(pdu)).toBe(forClient),
);
