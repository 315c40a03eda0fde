import { expect, test } from 'vitest';
import { decodeFragment, encodeFragment, FunctionCode } from '../../wire/application.ts';
import { encodeLinkFrame, PrimaryFunction } from '../../wire/link.ts';
import { measuredReadings } from '../../wire/measured.ts';
import { segment } from '../../wire/transport.ts';
import { CarryingFragment } from './carried.ts';

/** Frames of a response from 11 to 1 with these objects. */
const framesOf = (objects: number[]): { fragment: Uint8Array; frames: Uint8Array[] } => {
  const control = { first: true, final: true, confirm: false, unsolicited: false, sequence: 3 };
  const fragment = encodeFragment(control, FunctionCode.response, 0, Uint8Array.from(objects));
  const frames = segment(fragment, 5).map((data) =>
    encodeLinkFrame({
      ...{ fromMaster: false, primary: true, countBit: false, countValid: false },
      ...{ functionCode: PrimaryFunction.unconfirmedUserData, destination: 1, source: 11, data },
    }),
  );
  return { fragment, frames };
};
const LONG = Array.from({ length: 60 }, (_, i) => [i, 0x01, i, 0, 0, 0]).flat();

/** Objects as IEEE 1815 lays them out (Annex A): common time and relative events, packed bits, events with time, texts. */
const OBJECTS = [
  ...[51, 1, 0x07, 1, 0x00, 0x10, 0x20, 0x30, 0x40, 0x01],
  ...[2, 3, 0x28, 2, 0, 4, 0, 0x81, 10, 0, 9, 0, 0x01, 20, 0],
  ...[1, 1, 0x00, 0, 10, 0b1010_0101, 0b0000_0101],
  ...[32, 7, 0x28, 1, 0, 3, 0, 0x01, 0, 0, 0xc0, 0x7f, 1, 2, 3, 4, 5, 0],
  ...[110, 4, 0x00, 2, 3, ...[...'NO 1NO 2'].map((letter) => letter.charCodeAt(0))],
  // More than a frame's worth: 32 bits with flags, each with its index.
  ...[30, 1, 0x28, 60, 0, ...LONG.flatMap((octet, at) => (at % 6 === 0 ? [octet, 0] : [octet]))],
];

test('a reading is found again in the frames that carried it, each where it stands', () => {
  const { fragment, frames } = framesOf(OBJECTS);
  expect(frames.length).toBeGreaterThan(1);
  const decoded = decodeFragment(fragment);
  if (!decoded.ok) throw new Error(decoded.problem);
  const { readings, problem } = measuredReadings(decoded.value);
  expect(problem).toBeNull();
  expect(readings.map(({ group }) => group)).toEqual([
    ...[2, 2],
    ...new Array<number>(11).fill(1),
    ...[32, 110, 110],
    ...new Array<number>(60).fill(30),
  ]);
  const carrying = new CarryingFragment(frames);
  expect(new Set(readings.map((one) => carrying.place(one))).size).toBe(readings.length);
  for (const one of readings) expect(carrying.again(carrying.place(one))).toStrictEqual(one);
  expect(carrying.again(3)).toBeNull();
});

test('in frames that are not a response nothing is found', () => {
  expect(new CarryingFragment([]).again(8)).toBeNull();
});
