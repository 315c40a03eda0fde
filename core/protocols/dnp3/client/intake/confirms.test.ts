import { expect, test } from 'vitest';
import { Confirms } from './confirms.ts';

const NOW = 1_700_000_000_000;
/** An unsolicited response with sequence number 3 that wants to be confirmed. */
const RESPONSE = {
  octets: Uint8Array.of(0xf3, 130, 0, 0, 2, 1),
  control: { sequence: 3, confirm: true },
} as Parameters<Confirms['took']>[0];

test('a response that comes again while its commit is awaited was not confirmed, and that is no sign of a deaf device', () => {
  const confirms = new Confirms();
  expect(confirms.lastIsConfirmed).toBe(false);
  confirms.took(RESPONSE, NOW);
  confirms.await(7, false);
  for (let n = 1; n < 10; n++) {
    expect(confirms.lastIsConfirmed).toBe(false);
    expect(confirms.isRepeated(RESPONSE, NOW + n * 1000)).toBe(true);
    // Nothing goes out before the commit.
    expect(confirms.send(NOW + n * 1000)).toBeNull();
  }
  expect(confirms.committed(7, NOW + 10_000)).toBe(true);
  expect(confirms.lastIsConfirmed).toBe(false);
  expect(confirms.send(NOW + 10_000)).toMatchObject({ sequence: 3, unsolicited: true });
  expect(confirms.lastIsConfirmed).toBe(true);
  // From here on a repetition means that the confirm did not get there; each is confirmed again.
  expect(confirms.isRepeated(RESPONSE, NOW + 12_000)).toBe(true);
  expect(confirms.lastIsConfirmed).toBe(false);
  expect(confirms.send(NOW + 12_000)).toMatchObject({ sequence: 3 });
  expect(confirms.lastIsConfirmed).toBe(true);
});
