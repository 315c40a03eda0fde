import type { OwedEvent, Settled, StoredReading } from '@halvix/db';
import { closeSync, fstatSync, mkdirSync, openSync, readSync, rmSync, statSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { log, reason } from '../log.ts';

/*
 * What waits for a database that takes nothing, beyond what memory is to hold of it, and at an orderly end: one file in
 * the engine's folder, a line of JSON each, in the order in which it came. The first line says which run wrote it. How far
 * it has been stored is kept in the database, in the same transaction (`STORED_UP_TO`), so that nothing of it is stored
 * twice; once all of it is, the file goes.
 *
 * Rules:
 * 1. While there is a file, whatever may go there goes there: it never passes what came before it.
 * 2. The file has a bound; beyond it, and when it cannot be written, what comes is refused, and counted by whoever asked.
 */

/** One thing that waits: readings of a device with what comes with them, or how far outbounds are settled. */
export interface WaitingLine {
  device: string;
  readings: readonly StoredReading[];
  keep: Uint8Array | null;
  owed: readonly OwedEvent[];
  settled: readonly Settled[];
  /** Of a batch of which nobody knew whether it went through. */
  batch?: { writer: string; id: string };
}

/** Under which it is kept how far the file was stored, beside what sessions of devices keep; no device is called so. */
export const STORED_UP_TO = '/waiting file';
/** Under which the run that wrote last is kept. */
export const LAST_RUN = '/run';

const MOST_OCTETS = 1024 * 1024 * 1024;
const READ_AT_A_TIME = 4 * 1024 * 1024;

const base64 = (octets: Uint8Array): string => Buffer.from(octets).toString('base64');
const octetsOf = (text: string): Uint8Array => new Uint8Array(Buffer.from(text, 'base64'));

const written = ({ device, readings, keep, owed, settled, batch }: WaitingLine): string =>
  `${JSON.stringify({
    ...{ device, readings, settled, batch },
    keep: keep && base64(keep),
    owed: owed.map((one) => ({ ...one, octets: base64(one.octets) })),
  })}\n`;

/** Null: it is cut short, as the last line may be. */
function lineOf(text: string): WaitingLine | null {
  try {
    const { device, readings, settled, batch, keep, owed } = JSON.parse(text) as Omit<WaitingLine, 'keep' | 'owed'> & {
      keep: string | null;
      owed: (Omit<OwedEvent, 'octets'> & { octets: string })[];
    };
    const events = owed.map((one) => ({ ...one, octets: octetsOf(one.octets) }));
    const kept = keep === null ? null : octetsOf(keep);
    return { device, readings, settled, keep: kept, owed: events, ...(batch ? { batch } : {}) };
  } catch {
    return null;
  }
}

/** Where reading goes on. */
export interface Place {
  /** By which it is known that it is the same file still. */
  file: string;
  at: number;
}

export const encodePlace = (place: Place): Uint8Array => new TextEncoder().encode(JSON.stringify(place));
export function decodePlace(kept: Uint8Array | undefined): Place | null {
  try {
    return kept === undefined ? null : (JSON.parse(new TextDecoder().decode(kept)) as Place);
  } catch {
    return null;
  }
}

export class WaitingFile {
  private readonly path: string;
  private descriptor: number | null = null;
  /** Which it is: the run that began it, and when. */
  private id = '';
  private size = 0;
  private readTo = 0;
  private failing = false;

  constructor(
    private readonly folder: string,
    private readonly run: string,
    private readonly most = MOST_OCTETS,
  ) {
    this.path = join(folder, 'waiting.jsonl');
  }

  /** Whether there is anything in it that was not read. */
  get isEmpty(): boolean {
    return this.readTo >= this.size;
  }
  /** Octets that wait. */
  get waiting(): number {
    return this.size - this.readTo;
  }

  /** Takes up a file of an earlier run, from where it was stored; returns which run that was. Null: there is none. */
  open(stored: Place | null): string | null {
    if (statSync(this.path, { throwIfNoEntry: false }) === undefined) return null;
    this.descriptor = openSync(this.path, 'r+');
    this.size = fstatSync(this.descriptor).size;
    const head = this.readLines(0, 1);
    const { file = '', run = '' } =
      head === null ? {} : (parsed(head.lines[0] ?? '') as { file?: string; run?: string });
    this.id = file;
    this.readTo = stored?.file === file ? stored.at : (head?.end ?? this.size);
    if (!this.isEmpty) return run;
    this.remove();
    return null;
  }

  /** Whether it was taken. */
  add(line: WaitingLine): boolean {
    try {
      if (this.descriptor === null) this.begin();
      const text = Buffer.from(written(line));
      if (this.descriptor === null || this.size + text.length > this.most) return false;
      this.put(text);
      this.failing = false;
      return true;
    } catch (error) {
      if (!this.failing) log('error', 'what waits cannot be written', { file: this.path, reason: reason(error) });
      this.failing = true;
      return false;
    }
  }

  private put(text: Buffer): void {
    if (this.descriptor === null) return;
    const at = this.size;
    // Cut short, on a full disk, it is taken back: the next one would stand behind half a line.
    for (let done = 0; done < text.length;) {
      const some = writeSync(this.descriptor, text, done, text.length - done, at + done);
      if (some <= 0) throw new Error('nothing more is written');
      done += some;
    }
    this.size = at + text.length;
  }

  private begin(): void {
    mkdirSync(this.folder, { recursive: true });
    this.descriptor = openSync(this.path, 'w+');
    [this.size, this.readTo] = [0, 0];
    this.id = `${this.run} ${Date.now()}`;
    this.put(Buffer.from(`${JSON.stringify({ file: this.id, run: this.run })}\n`));
    this.readTo = this.size;
  }

  /** What comes next, and where it ends; null: nothing does. */
  next(most: number): { lines: WaitingLine[]; place: Place } | null {
    if (this.descriptor === null || this.isEmpty) return null;
    const read = this.readLines(this.readTo, most);
    if (read === null) {
      // The rest is half a line: of a process that ended while it wrote.
      this.remove();
      return null;
    }
    return { lines: read.lines.flatMap((text) => lineOf(text) ?? []), place: { file: this.id, at: read.end } };
  }

  /** Up to there everything is stored. */
  stored({ at }: Place): void {
    this.readTo = at;
    if (this.isEmpty) this.remove();
  }

  private remove(): void {
    if (this.descriptor !== null) closeSync(this.descriptor);
    this.descriptor = null;
    [this.size, this.readTo] = [0, 0];
    rmSync(this.path, { force: true });
  }

  private readLines(from: number, most: number): { lines: string[]; end: number } | null {
    if (this.descriptor === null) return null;
    for (let length = READ_AT_A_TIME; ; length *= 2) {
      const buffer = Buffer.alloc(Math.min(length, this.size - from));
      const read = readSync(this.descriptor, buffer, 0, buffer.length, from);
      const lines: string[] = [];
      let end = 0;
      for (let at = buffer.indexOf(10); at >= 0 && at < read && lines.length < most; at = buffer.indexOf(10, end)) {
        lines.push(buffer.toString('utf8', end, at));
        end = at + 1;
      }
      if (lines.length > 0) return { lines, end: from + end };
      if (from + buffer.length >= this.size) return null;
    }
  }

  close(): void {
    if (this.descriptor !== null) closeSync(this.descriptor);
    this.descriptor = null;
  }
}

function parsed(text: string): object {
  try {
    return JSON.parse(text) as object;
  } catch {
    return {};
  }
}
