import {
  renameSync,
  mkdirSync,
  mkdtempSync,
  readFileSync,
  symlinkSync,
  truncateSync,
  appendFileSync,
  writeFileSync,
  rmSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, expect, test } from 'vitest';
import type { Message } from '@halvix/core/protocols';
import { FileCarrier } from './file.ts';

let root: string;
let folder: string;
const octets = (text: string): Message[] => [{ to: '', octets: new TextEncoder().encode(text) }];
const content = (name = 'values.jsonl'): string => readFileSync(join(folder, name), 'utf8');
const carriers: FileCarrier[] = [];
function carrierOf(name = 'values.jsonl'): FileCarrier {
  const carrier = new FileCarrier(folder, name);
  carriers.push(carrier);
  return carrier;
}

beforeEach(() => {
  root = mkdtempSync(join(tmpdir(), 'halvix-carrier-'));
  folder = join(root, 'out');
});
afterEach(async () => {
  for (const carrier of carriers.splice(0)) await carrier.close();
  rmSync(root, { recursive: true, force: true });
});

test('packets are appended, to what is there already too, and folders are made', async () => {
  const first = carrierOf('a/b/values.jsonl');
  await first.carry(octets('1\n2\n'));
  await first.carry(octets('3\n'));
  await first.close();
  await carrierOf('a/b/values.jsonl').carry(octets('4\n'));
  expect(content('a/b/values.jsonl')).toBe('1\n2\n3\n4\n');
  expect(first.where).toBe('file a/b/values.jsonl');
});

test.each([
  ['one\ntw', 'one\n'],
  ['cut in its first line', ''],
  [`${'x'.repeat(200_000)}`, ''],
  [`whole\n${'x'.repeat(200_000)}`, 'whole\n'],
  ['', ''],
])('what an end left in the middle of a line is cut off', async (left, whole) => {
  mkdirSync(folder);
  writeFileSync(join(folder, 'values.jsonl'), left);
  await carrierOf().carry(octets('next\n'));
  expect(content()).toBe(`${whole}next\n`);
});

test('a file that somebody else writes is said, and the packet comes whole at the next try', async () => {
  const carrier = carrierOf();
  await carrier.carry(octets('1\n'));
  appendFileSync(join(folder, 'values.jsonl'), 'not ours, and longer\n');
  await expect(carrier.carry(octets('2\n'))).rejects.toThrow(/octets, and not 4: somebody else writes it/);
  await carrier.carry(octets('2\n'));
  expect(content().endsWith('2\n')).toBe(true);
});

test('a file that is taken away to be read has all that came before, and a new one goes on', async () => {
  const carrier = carrierOf();
  await carrier.carry(octets('1\n'));
  renameSync(join(folder, 'values.jsonl'), join(folder, 'taken'));
  await expect(carrier.carry(octets('2\n'))).rejects.toThrow('it was taken away: a new one is begun');
  await carrier.carry(octets('2\n'));
  await carrier.carry(octets('3\n'));
  expect([content('taken'), content()]).toEqual(['1\n2\n', '2\n3\n']);
});

test('a file that was emptied begins anew', async () => {
  const carrier = carrierOf();
  await carrier.carry(octets('1\n'));
  truncateSync(join(folder, 'values.jsonl'), 0);
  await carrier.carry(octets('2\n')).catch(() => {});
  await carrier.carry(octets('3\n'));
  expect(content().endsWith('3\n')).toBe(true);
});

test('there is no way out of the folder, by links either, and only ordinary files are written', async () => {
  mkdirSync(folder);
  mkdirSync(join(root, 'elsewhere'));
  writeFileSync(join(root, 'secret'), 'as it was');
  symlinkSync(join(root, 'elsewhere'), join(folder, 'way'));
  symlinkSync(join(root, 'secret'), join(folder, 'link.jsonl'));
  mkdirSync(join(folder, 'folder.jsonl'));
  writeFileSync(join(folder, 'plain'), '');
  await expect(carrierOf('way/values.jsonl').carry(octets('1\n'))).rejects.toThrow('leads out');
  await expect(carrierOf('link.jsonl').carry(octets('1\n'))).rejects.toThrow('link to somewhere else');
  await expect(carrierOf('folder.jsonl').carry(octets('1\n'))).rejects.toThrow('it is a folder');
  await expect(carrierOf('plain/values.jsonl').carry(octets('1\n'))).rejects.toThrow('no folder');
  expect(readFileSync(join(root, 'secret'), 'utf8')).toBe('as it was');
});

test('a second carrier of the same file waits for the one that still writes', async () => {
  const [first, second] = [carrierOf(), carrierOf()];
  const writing = first.carry(octets('1\n'));
  await expect(second.carry(octets('2\n'))).rejects.toThrow('what was written last has not ended yet');
  await writing;
  await first.close();
  await second.carry(octets('2\n'));
  expect(content()).toBe('1\n2\n');
});
