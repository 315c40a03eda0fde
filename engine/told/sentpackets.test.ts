import type { SentPacket } from '@halvix/db';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';

const base = vi.hoisted(() => ({ writes: [] as SentPacket[][], tidied: [] as number[], fails: false }));
vi.mock('@halvix/db', () => ({
  writeSent: async (_database: unknown, packets: SentPacket[]) => {
    if (base.fails) throw new Error('away');
    base.writes.push(structuredClone(packets));
  },
  dropOldSent: async (_database: unknown, outbound: number) => void base.tidied.push(outbound),
}));
const { SentPackets } = await import('./sentpackets.ts');

const NOW = Date.UTC(2096, 0, 1);
let sent: InstanceType<typeof SentPackets>;
beforeEach(() => {
  vi.useFakeTimers({ now: NOW });
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(base, { writes: [], tidied: [], fails: false });
  sent = new SentPackets({} as never, 'run 1');
});
afterEach(() => {
  vi.useRealTimers();
  vi.restoreAllMocks();
});
const pass = (ms: number): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);
const out = (packet: number, length = 3): void =>
  sent.out(1, { packet, records: 2, messages: [{ to: 'a', octets: new Uint8Array(length).fill(65) }] });

test('tries and answers of half a second are one row; a later answer says only what came of it', async () => {
  out(7);
  sent.answered(1, 7, 'no');
  await pass(100);
  out(7);
  await pass(400);
  expect(base.writes).toEqual([
    [
      {
        ...{ outbound: 1, packet: 7, first: NOW, last: NOW + 100, tries: 2, records: 2, octets: 3 },
        ...{ state: 'under way', words: '', messages: [{ to: 'a', octets: 'QUFB' }] },
      },
    ],
  ]);
  sent.answered(1, 7, null);
  await pass(500);
  expect(base.writes[1]).toMatchObject([{ packet: 7, tries: 0, state: 'delivered' }]);
});

test('a try right behind an answer that is not written yet has all that is in it', async () => {
  sent.answered(1, 7, 'no');
  out(7);
  await pass(500);
  expect(base.writes[0]).toMatchObject([{ tries: 1, records: 2, messages: [{ octets: 'QUFB' }] }]);
});

test('of more than anybody looks at only the newest are written, by number and by octets', async () => {
  for (let n = 1; n <= 1200; n++) out(n);
  await pass(500);
  expect([base.writes[0].length, base.writes[0][0].packet]).toEqual([1000, 201]);
  for (let n = 1; n <= 20; n++) out(n, 1 << 20);
  await pass(500);
  expect(base.writes[1].map(({ packet }) => packet)).toEqual([
    5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20,
  ]);
});

test('what is beyond the bound goes now and then, and a database that is away holds nothing up', async () => {
  for (let n = 0; n < 20; n++) {
    out(n);
    await pass(500);
  }
  expect(base.tidied).toEqual([1]);
  base.fails = true;
  out(50);
  await pass(500);
  base.fails = false;
  out(51);
  await sent.flush();
  expect(base.writes.at(-1)?.map(({ packet }) => packet)).toEqual([51]);
});
