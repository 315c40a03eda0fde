import type { StoredReading } from '@halvix/db';
import { appendFileSync, mkdirSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { log, reason } from '../log.ts';

const MAX_OCTETS = 64 * 1024 * 1024;

/** Readings that the database calls bad data, a line of JSON each, for whoever looks into it. */
export class Aside {
  readonly file: string;

  constructor(private readonly folder: string) {
    this.file = join(folder, 'refused-readings.jsonl');
  }

  put(readings: readonly StoredReading[], why: string): void {
    log('error', 'readings that the database refuses are put aside', {
      readings: readings.length,
      reason: why,
      file: this.file,
    });
    try {
      mkdirSync(this.folder, { recursive: true });
      const size = statSync(this.file, { throwIfNoEntry: false })?.size ?? 0;
      if (size > MAX_OCTETS) return;
      const at = new Date().toISOString();
      appendFileSync(this.file, readings.map((reading) => `${JSON.stringify({ at, why, ...reading })}\n`).join(''));
    } catch (error) {
      log('error', 'what was put aside cannot be written', { file: this.file, reason: reason(error) });
    }
  }
}
