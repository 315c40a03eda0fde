import { beforeEach, expect, test } from 'vitest';
import { LinkParser, PrimaryFunction, encodeLinkFrame } from '../wire/link.ts';
import { Iin } from '../wire/application.ts';
import type { ServerEffect } from '../../server.ts';
import { outstationSettings } from '../settings.ts';
import { Dnp3Server } from './server.ts';

const NOW = 1_700_000_000_000;
let server: Dnp3Server;
let effects: ServerEffect[];
const begin = (more: object): void => {
  server = new Dnp3Server(outstationSettings.parse({ ourAddress: 11, theirAddress: 1, ...more }), [], NOW);
  server.start(NOW);
};
/** Sends a request; returns the fragments of the answers. */
function ask(functionCode: number, objects: readonly number[], now: number, sequence = 5): Uint8Array[] {
  const frame = {
    ...{ fromMaster: true, primary: true, countBit: false, countValid: false, destination: 11, source: 1 },
    functionCode: PrimaryFunction.unconfirmedUserData,
    data: Uint8Array.from([0xc0, 0xc0 | sequence, functionCode, ...objects]),
  };
  server.receive(encodeLinkFrame(frame), now);
  const came = server.take();
  effects.push(...came);
  return came.flatMap((effect) =>
    effect.type === 'send'
      ? new LinkParser()
          .push(effect.octets)
          .flatMap((event) => (event.type === 'frame' ? [event.frame.data.subarray(1)] : []))
      : [],
  );
}
const iinOf = ([answer]: Uint8Array[]): number => answer[2] | (answer[3] << 8);
const CLEAR_RESTART = [80, 1, 0, 7, 7, 0];
beforeEach(() => {
  effects = [];
});

test.each([
  [13, 'cold'],
  [14, 'warm'],
])('function %i: it is away for as long as it says, and begins anew', (functionCode, how) => {
  begin({ restartsInMs: 4000 });
  ask(2, CLEAR_RESTART, NOW);
  expect(iinOf(ask(1, [60, 2, 6], NOW, 6)) & Iin.deviceRestart).toBe(0);
  // Time delay, fine: 4000 ms (g52v2).
  expect([...ask(functionCode, [], NOW, 7)[0].subarray(4)]).toEqual([52, 2, 7, 1, 0xa0, 0x0f]);
  expect(effects).toContainEqual({ type: 'noted', words: `a ${how} restart was asked for` });
  // Behind the answer.
  expect(effects.map(({ type }) => type).slice(-2)).toEqual(['send', 'hangUp']);
  server.stop(NOW);
  server.start(NOW + 1000);
  expect(ask(1, [60, 2, 6], NOW + 1000)).toEqual([]);
  expect(server.deadline).toBe(NOW + 4000);
  server.wake(NOW + 3999);
  expect(ask(1, [60, 2, 6], NOW + 3999)).toEqual([]);
  server.wake(NOW + 4000);
  expect(iinOf(ask(1, [60, 2, 6], NOW + 4000)) & Iin.deviceRestart).toBe(Iin.deviceRestart);
});

test('one that does not restart refuses', () => {
  begin({});
  expect(iinOf(ask(13, [], NOW)) & Iin.functionNotSupported).not.toBe(0);
  expect([effects.some(({ type }) => type === 'hangUp'), server.deadline]).toEqual([false, null]);
});
