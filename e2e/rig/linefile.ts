import { existsSync, mkdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Received } from './receiver.ts';

interface Line {
  id: number;
  point: string;
  time: string;
}

/** A file of lines as somebody reads it: what has an id that was there already is dropped. */
export class LineFile {
  readonly name: string;
  port = 0;
  private isAway = true;

  constructor(
    private readonly out: string,
    private readonly folder: string,
  ) {
    this.name = `${folder}/values.jsonl`;
    this.go();
  }

  private get path(): string {
    return join(this.out, this.folder);
  }
  get state(): string {
    return this.isAway ? 'off' : 'answering';
  }

  /** Its folder is there again, with all that was in it. */
  come(): void {
    if (!this.isAway) return;
    rmSync(this.path, { force: true });
    if (existsSync(`${this.path}.away`)) renameSync(`${this.path}.away`, this.path);
    this.isAway = false;
  }

  /** In the place of its folder is something that nothing can be written below. */
  go(): void {
    mkdirSync(this.out, { recursive: true });
    if (existsSync(this.path)) renameSync(this.path, `${this.path}.away`);
    writeFileSync(this.path, 'away');
    this.isAway = true;
  }

  get lines(): Line[] {
    const path = join(this.isAway ? `${this.path}.away` : this.path, 'values.jsonl');
    if (!existsSync(path)) return [];
    const text = readFileSync(path, 'utf8');
    // What is being written has no end yet.
    const whole = text.slice(0, text.lastIndexOf('\n') + 1).split('\n');
    return whole.filter((line) => line !== '').map((line) => JSON.parse(line) as Line);
  }

  get received(): Received[] {
    const known = new Set<number>();
    return this.lines.flatMap(({ id, point, time }) => {
      if (known.has(id)) return [];
      known.add(id);
      return [{ point, time: Date.parse(time), at: Date.parse(time) }];
    });
  }
}
