import { expect, test } from 'vitest';
import type { LivePoint } from '../board/exchange.ts';
import type { OutboundRunner } from './outbound.ts';
import { trailOf } from './trail.ts';

const reading = { value: 5 } as LivePoint['reading'];
const point = (more: Partial<LivePoint>): LivePoint => ({ id: 7, reading, origin: null, ...more }) as LivePoint;
const outbound = (code: string, deliveries: object[]): OutboundRunner =>
  ({ config: { code }, deliveriesOf: () => deliveries }) as unknown as OutboundRunner;

test('a point that has no reading has no trail', () => {
  expect(trailOf(point({ reading: null }), [])).toBeNull();
});

test('of a value that no message brought, only what became of it is told', () => {
  expect(trailOf(point({}), [outbound('Q', [{ state: 'sent' }, { state: 'waits' }]), outbound('R', [])])).toEqual({
    ...{ pointId: 7, reading, frames: null, message: null, object: null, said: null, committed: null, batch: null },
    outbounds: [
      { code: 'Q', state: 'sent' },
      { code: 'Q', state: 'waits' },
    ],
  });
});

test('the message that brought it is told octet by octet, and when it was stored', () => {
  const measured = { id: 7 } as never;
  const carried = {
    words: () => 'a message',
    form: (one: unknown) => (one === measured ? 'g30v1 i0' : ''),
    said: () => null,
    address: () => '',
    frames: () => [
      { octets: Uint8Array.of(5, 0x64, 255), marked: [2], bit: null },
      { octets: Uint8Array.of(1), marked: [], bit: 3, quiet: [0], lines: [0] },
    ],
  };
  const origin = { measured, carrier: { carried, committed: { at: 123, batch: 40 } } };
  expect(trailOf(point({ origin }), [])).toMatchObject({
    ...{ message: 'a message', object: 'g30v1 i0', said: null, committed: 123, batch: 40, outbounds: [] },
    frames: [
      { octets: '05 64 ff', marked: [2], bit: null, quiet: [], lines: [] },
      { octets: '01', marked: [], bit: 3, quiet: [0], lines: [0] },
    ],
  });
});
