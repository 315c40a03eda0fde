import type { FileAnswer } from './device.ts';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { Journal } from '../journal.ts';

interface Row {
  id: string;
  device: string;
  what: string;
  name: string;
  requestedBy: string;
}
const table = vi.hoisted(() => ({
  rows: new Map<string, Row>(),
  noted: [] as { id: string; progress: object }[],
  claims: [] as string[],
  closed: [] as unknown[][],
  fails: false,
}));
vi.mock('@halvix/db', () => ({
  claimTransfer: async (_database: unknown, id: string, engine: string, devices: string[]) => {
    table.claims.push(`${id} ${engine} ${devices.join()}`);
    if (table.fails) throw new Error('away');
    return table.rows.get(id) ?? null;
  },
  noteTransfer: async (_database: unknown, id: string, progress: object) => void table.noted.push({ id, progress }),
  closeTransfers: async (_database: unknown, ...rest: unknown[]) => void table.closed.push(rest),
}));
const { FileTransfers } = await import('./files.ts');

const NOW = Date.UTC(2096, 0, 1);
let journal: Journal;
let transfers: InstanceType<typeof FileTransfers>;
let asked: { order: object; progress: (octets: number) => void; done: (answer: FileAnswer) => void }[];
beforeEach(() => {
  vi.useFakeTimers({ now: NOW });
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(table, { noted: [], claims: [], closed: [], fails: false });
  table.rows.clear();
  asked = [];
  journal = new Journal();
  const device = {
    askFile: (order: object, progress: (octets: number) => void) =>
      new Promise<FileAnswer>((done) => asked.push({ order, progress, done })),
  };
  const devices = new Map([['D', device as never]]);
  transfers = new FileTransfers({ database: {} as never, engine: 'engine-1', journal, devices: () => devices });
});
afterEach(() => {
  vi.useRealTimers();
  vi.restoreAllMocks();
});
const pass = (ms = 0): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);
function begin(id: string, what = 'readFile', device = 'D'): Promise<void> {
  table.rows.set(id, { id, device, what, name: 'x.cfg', requestedBy: 'ada' });
  return transfers.begin({ type: 'file', id, as: null } as never);
}

test('a question is taken once, asked of its device, and its answer kept', async () => {
  const under = begin('a');
  await pass();
  expect(table.claims).toEqual(['a engine-1 D']);
  expect(asked[0].order).toEqual({ what: 'readFile', name: 'x.cfg', as: null });
  await pass(10);
  asked[0].done({ problem: null, answer: { file: Uint8Array.of(1, 2, 3) } });
  await under;
  expect(table.noted).toEqual([
    {
      id: 'a',
      progress: { state: 'done', words: null, ended: NOW + 10, content: Uint8Array.of(1, 2, 3), octets: 3 },
    },
  ]);
  expect(journal.take()).toEqual([]);
});

test('a directory is kept as one, and a failure with why', async () => {
  const first = begin('a', 'listFiles');
  await pass();
  asked[0].done({ problem: null, answer: { directory: [{ name: 'x' }] as never } });
  await first;
  expect(table.noted[0].progress).toEqual({ state: 'done', words: null, ended: NOW, entries: [{ name: 'x' }] });
  const second = begin('b');
  await pass();
  asked[1].done({ problem: 'no such file', answer: {} });
  await second;
  expect(table.noted[1].progress).toEqual({ state: 'failed', words: 'no such file', ended: NOW });
});

test('what was deleted there is written down, and who asked for it', async () => {
  for (const [id, problem] of [
    ['a', null],
    ['b', 'refused'],
  ] as const) {
    const under = begin(id, 'deleteFile');
    await pass();
    asked.at(-1)!.done({ problem, answer: {} });
    await under;
  }
  expect(journal.take().map(({ words }) => words)).toEqual([
    'file x.cfg deleted there, asked by ada: done',
    'file x.cfg deleted there, asked by ada: refused',
  ]);
});

test('progress is written once a second', async () => {
  const under = begin('a');
  await pass();
  for (let n = 1; n <= 25; n++) {
    asked[0].progress(n);
    await pass(100);
  }
  expect(table.noted.map(({ progress }) => progress)).toEqual([{ octets: 1 }, { octets: 11 }, { octets: 21 }]);
  asked[0].done({ problem: null, answer: {} });
  await under;
});

test('what another engine has, or a device that is not ours, is left alone; a database that is away too', async () => {
  await transfers.begin({ type: 'file', id: 'unknown', as: null } as never);
  await begin('a', 'readFile', 'E');
  table.fails = true;
  await begin('b');
  expect([asked, table.noted]).toEqual([[], []]);
  table.fails = false;
  void begin('c');
  await pass();
  expect(asked).toHaveLength(1);
});

test('what nobody took within half a minute is given up', async () => {
  await transfers.tidy();
  expect(table.closed).toEqual([[null, NOW - 30_000]]);
});
