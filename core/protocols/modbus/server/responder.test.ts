import { expect, test } from 'vitest';
import { encodeFrame, type FramingName } from '../wire/frame.ts';
import { PlainMemory, Responder } from './responder.ts';

const UNIT = 5;
/** A unit on a wire that hands back what is sent; how often its coil was written. */
function echoing(framing: FramingName): { ask: (now: number) => void; sent: Uint8Array[]; writes: () => number } {
  const memory = new PlainMemory();
  memory.bits.coils.set(0, false);
  let writes = 0;
  const plain = memory.writeBits.bind(memory);
  memory.writeBits = (address, bits, done) => {
    writes++;
    plain(address, bits, done);
  };
  const sent: Uint8Array[] = [];
  const responder = new Responder({
    ...{ framing, octetMs: 1, memoryOf: (unit) => (unit === UNIT ? memory : null), count: () => {} },
    send: (octets) => void sent.push(octets),
  });
  // Write single coil 0, on: its answer is the same.
  const request = encodeFrame(framing, 1, UNIT, Uint8Array.of(0x05, 0, 0, 0xff, 0));
  const ask = (now: number): void => {
    const before = sent.length;
    responder.receive(request, now);
    for (let at = before; at < sent.length && sent.length < 50; at++) responder.receive(sent[at], now + 10);
  };
  return { ask, sent, writes: () => writes };
}

test.each(['rtu', 'ascii'] as const)('%s: an adapter that hands back what is sent makes no second write', (framing) => {
  const wire = echoing(framing);
  wire.ask(1000);
  expect([wire.writes(), wire.sent.length]).toEqual([1, 1]);
  // The same order again is one.
  wire.ask(2000);
  expect([wire.writes(), wire.sent.length]).toEqual([2, 2]);
});

test('without an echo the same write again is carried out, as soon as a line can carry it', () => {
  const memory = new PlainMemory();
  memory.registers.holdingRegisters.set(7, 0);
  let sent = 0;
  const responder = new Responder({
    ...{ framing: 'rtu', octetMs: 1, memoryOf: () => memory, count: () => {}, send: () => void sent++ },
  });
  const write = (value: number): Uint8Array => encodeFrame('rtu', 0, UNIT, Uint8Array.of(0x06, 0, 7, 0, value));
  responder.receive(write(1), 1000);
  responder.receive(write(2), 1020);
  responder.receive(write(1), 1040);
  responder.receive(write(1), 1200);
  expect([sent, memory.registers.holdingRegisters.get(7)]).toEqual([4, 1]);
});
