import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, describe, expect, test } from 'vitest';
import { decodePlace, encodePlace, WaitingFile, type WaitingLine } from './waitingfile.ts';

let folder: string;
let path: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'halvix-file-'));
  path = join(folder, 'waiting.jsonl');
});
afterEach(() => rmSync(folder, { recursive: true }));

const line = (device: string, more: Partial<WaitingLine> = {}): WaitingLine => ({
  ...{ device, readings: [], keep: null, owed: [], settled: [] },
  ...more,
});
const devices = (file: WaitingFile, most = 100): string[] => file.next(most)?.lines.map(({ device }) => device) ?? [];

describe('the file of what waits', () => {
  test('gives what was put in, in its order, octets among it, and is gone once all is stored', () => {
    const file = new WaitingFile(folder, 'run 1');
    const owed = [{ outbound: 1, queue: '2', number: 1_700_000_000_000_001, octets: Uint8Array.of(0, 255, 10) }];
    const first = line('A', { keep: Uint8Array.of(1, 10, 2), owed, batch: { writer: 'w', id: 'b' } });
    expect([file.add(first), file.add(line('B')), file.isEmpty]).toEqual([true, true, false]);
    const read = file.next(1);
    expect(read?.lines).toEqual([first]);
    // Not stored yet: the same again.
    expect(devices(file, 1)).toEqual(['A']);
    if (read) file.stored(read.place);
    const rest = file.next(10);
    expect(rest?.lines.map(({ device }) => device)).toEqual(['B']);
    if (rest) file.stored(rest.place);
    expect([file.isEmpty, existsSync(path)]).toEqual([true, false]);
    expect(file.add(line('C'))).toBe(true);
    expect(devices(file)).toEqual(['C']);
  });

  test('is taken up by a later run from where it was stored, and says who wrote it', () => {
    const file = new WaitingFile(folder, 'run 1');
    for (const device of ['A', 'B', 'C']) file.add(line(device));
    const place = file.next(2)!.place;
    file.close();
    const later = new WaitingFile(folder, 'run 2');
    expect(later.open(decodePlace(encodePlace(place)))).toBe('run 1');
    expect(devices(later)).toEqual(['C']);
    later.close();
    // Of a place in another file nothing is known.
    const again = new WaitingFile(folder, 'run 3');
    again.open({ file: 'another', at: 1 });
    expect(devices(again)).toEqual(['A', 'B', 'C']);
  });

  test('whose last line was cut short gives the others', () => {
    const file = new WaitingFile(folder, 'run 1');
    for (const device of ['A', 'B']) file.add(line(device));
    file.close();
    writeFileSync(path, readFileSync(path).subarray(0, -4));
    const later = new WaitingFile(folder, 'run 2');
    later.open(null);
    const read = later.next(10)!;
    expect(read.lines.map(({ device }) => device)).toEqual(['A']);
    later.stored(read.place);
    expect(later.next(10)).toBeNull();
    expect([later.isEmpty, existsSync(path)]).toEqual([true, false]);
  });

  test('with nothing in it, or with garbage, is none', () => {
    expect(new WaitingFile(folder, 'run').open(null)).toBeNull();
    writeFileSync(path, '{"file":"x","run":"y"}\n');
    expect(new WaitingFile(folder, 'run').open(null)).toBeNull();
    writeFileSync(path, '\u0000\u0001 garbage\nmore\n');
    const file = new WaitingFile(folder, 'run');
    file.open(null);
    expect(devices(file)).toEqual([]);
  });

  test('has a bound, and is refused where it cannot be written', () => {
    const file = new WaitingFile(folder, 'run 1', 400);
    const taken = Array.from({ length: 10 }, () => file.add(line('A')));
    expect(taken[0]).toBe(true);
    expect(taken.at(-1)).toBe(false);
    expect(readFileSync(path).length).toBeLessThanOrEqual(400);
    writeFileSync(join(folder, 'nofolder'), '');
    expect(new WaitingFile(join(folder, 'nofolder'), 'run 1').add(line('A'))).toBe(false);
  });

  test('a place that nobody understands is none', () => {
    expect([decodePlace(undefined), decodePlace(Uint8Array.of(1, 2))]).toEqual([null, null]);
  });
});
