import { constants } from 'node:fs';
import { mkdir, open, realpath, stat, type FileHandle } from 'node:fs/promises';
import { dirname, join, sep } from 'node:path';
import { concat } from '@halvix/core/bytes';
import type { Message } from '@halvix/core/protocols';
import type { Carrier } from './carrier.ts';

const NEWLINE = 0x0a;
/** Files that are being written, by whichever carrier: one that hangs may still write when another has taken its place. */
const WRITING = new Set<string>();
/** The end of a file is looked through in pieces of so many octets. */
const PIECE = 64 * 1024;

/**
 * A file to which packets are appended. A packet counts as carried once it is on the disk and the file has the size that it
 * has to have. What an end of the engine, or a full disk, left of a packet in the middle of a line is cut off before the next
 * try; whole lines of it come again with it, by the same ids.
 */
export class FileCarrier implements Carrier {
  readonly where: string;
  private handle: FileHandle | null = null;
  private path = '';
  /** What is there up to here is whole. */
  private size = 0;

  constructor(
    private readonly folder: string,
    private readonly name: string,
  ) {
    this.where = `file ${name}`;
  }

  async carry(messages: readonly Message[]): Promise<void> {
    const octets = concat(messages.map((message) => message.octets));
    const key = join(this.folder, this.name);
    if (WRITING.has(key)) throw new Error('what was written last has not ended yet');
    WRITING.add(key);
    try {
      const handle = (this.handle ??= await this.open());
      await writeAll(handle, octets, this.size);
      await handle.sync();
      const { size, ino } = await handle.stat();
      // Whoever takes the file away, to read it elsewhere, gets a new one: the packet stands there too.
      if ((await stat(this.path).catch(() => null))?.ino !== ino)
        throw new Error('it was taken away: a new one is begun');
      if (size !== this.size + octets.length)
        throw new Error(`it has ${size} octets, and not ${this.size + octets.length}: somebody else writes it`);
      this.size = size;
    } catch (error) {
      // From the beginning, whatever is there then.
      await this.close();
      throw new Error(wordsOf(error), { cause: error });
    } finally {
      WRITING.delete(key);
    }
  }

  private async open(): Promise<FileHandle> {
    await mkdir(this.folder, { recursive: true });
    const root = await realpath(this.folder);
    const path = (this.path = join(root, this.name));
    await mkdir(dirname(path), { recursive: true });
    // A link within the folder is no way out of it.
    const within = await realpath(dirname(path));
    if (within !== root && !within.startsWith(root + sep))
      throw new Error('its folder leads out of the one for what goes out');
    const { O_RDWR, O_CREAT, O_NOFOLLOW, O_NONBLOCK } = constants;
    const handle = await open(path, O_RDWR | O_CREAT | O_NOFOLLOW | O_NONBLOCK, 0o640);
    try {
      const status = await handle.stat();
      if (!status.isFile()) throw new Error('it is no ordinary file');
      this.size = await wholeLines(handle, status.size);
      if (this.size < status.size) await handle.truncate(this.size);
    } catch (error) {
      await handle.close();
      throw error;
    }
    return handle;
  }

  async close(): Promise<void> {
    const { handle } = this;
    this.handle = null;
    await handle?.close().catch(() => {});
  }
}

async function writeAll(handle: FileHandle, octets: Uint8Array, from: number): Promise<void> {
  for (let done = 0; done < octets.length;) {
    const { bytesWritten } = await handle.write(octets, done, octets.length - done, from + done);
    if (bytesWritten === 0) throw new Error('nothing more can be written');
    done += bytesWritten;
  }
}

/** How many octets of a file are whole lines. */
async function wholeLines(handle: FileHandle, size: number): Promise<number> {
  const piece = Buffer.alloc(PIECE);
  for (let end = size; end > 0;) {
    const from = Math.max(0, end - PIECE);
    const { bytesRead } = await handle.read(piece, 0, end - from, from);
    const at = piece.subarray(0, bytesRead).lastIndexOf(NEWLINE);
    if (at >= 0) return from + at + 1;
    end = from;
  }
  return 0;
}

const WORDS: Readonly<Record<string, string>> = {
  ENOSPC: 'the disk is full',
  EDQUOT: 'the disk is full',
  EACCES: 'it may not be written',
  EPERM: 'it may not be written',
  EROFS: 'it may not be written',
  EISDIR: 'it is a folder',
  ENOTDIR: 'a part of its path is no folder',
  EEXIST: 'a part of its path is no folder',
  ELOOP: 'it is a link to somewhere else',
  ENXIO: 'it is no ordinary file',
  EIO: 'the disk has failed',
};
const wordsOf = (error: unknown): string => {
  const { code = '', message } = error as NodeJS.ErrnoException;
  return WORDS[code] ?? message;
};
