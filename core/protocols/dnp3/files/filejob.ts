import { FunctionCode } from '../wire/application.ts';
import { FileStatus, fileStatusWords, MODE_READ, readDirectory, type FileObject } from './file.ts';
import type { OrderAnswer } from '../order.ts';

/** A record of some minutes of samples; longer files are given up. */
export const MAX_FILE_OCTETS = 16 * 1024 * 1024;

/** What is wanted of a device's files; with `as`, after asking for a key. */
export interface FileWish {
  what: 'directory' | 'readFile' | 'deleteFile' | 'fileInformation';
  name: string;
  as?: { user: string; password: string } | undefined;
}

export type FileStep =
  | { step: 'send'; functionCode: number; object: FileObject }
  | { step: 'done'; answer: OrderAnswer }
  | { step: 'failed'; words: string };

/**
 * One wish, request by request (IEEE 1815, clause 5.3): a key where one is needed, then open, block after block and
 * close, or a single delete or question. Every block must have the number that was asked for; what is open is closed
 * whatever happens.
 */
export class FileJob {
  private key: number | null;
  private blocks: Uint8Array[] = [];
  /** Read so far. */
  octets = 0;
  private handle: number | null = null;
  private outcome: Exclude<FileStep, { step: 'send' }> | null = null;

  constructor(
    readonly wish: FileWish,
    private readonly maxBlock: number,
    private readonly requestId: number,
  ) {
    this.key = wish.as ? null : 0;
  }

  next(): FileStep {
    const { handle, key, wish, requestId } = this;
    const send = (functionCode: number, object: FileObject): FileStep => ({ step: 'send', functionCode, object });
    if (handle !== null && this.outcome === null) {
      const block = { block: this.blocks.length, last: false, data: new Uint8Array(0) };
      return send(FunctionCode.read, { variation: 5, handle, ...block });
    }
    if (handle !== null)
      return send(FunctionCode.closeFile, { variation: 4, handle, size: 0, maxBlock: 0, requestId, status: 0 });
    if (this.outcome !== null) return this.outcome;
    if (key === null) {
      const { user, password } = wish.as ?? { user: '', password: '' };
      return send(FunctionCode.authenticateFile, { variation: 2, user, password, key: 0 });
    }
    const { name } = wish;
    switch (wish.what) {
      case 'deleteFile':
        return send(FunctionCode.deleteFile, { variation: 3, name, key, mode: 0, maxBlock: 0, requestId });
      case 'fileInformation':
        return send(FunctionCode.getFileInformation, {
          ...{ variation: 7, name, requestId },
          ...{ isDirectory: false, size: 0, time: 0 },
        });
      case 'directory':
      case 'readFile':
        return send(FunctionCode.openFile, {
          ...{ variation: 3, name, key, requestId },
          ...{ mode: MODE_READ, maxBlock: this.maxBlock },
        });
      default:
        return wish.what satisfies never;
    }
  }

  /** A block may be asked for again when its answer was lost: nothing happens twice by that. */
  get mayRepeat(): boolean {
    return this.handle !== null && this.outcome === null;
  }

  /** Takes the answer to what `next` wanted; null: the device did not answer, or refused. */
  take(answer: FileObject | null, refusal = 'the device did not answer'): void {
    const { what, name } = this.wish;
    if (this.handle !== null && this.outcome !== null) {
      // Closed, or as good as: what was read counts.
      this.handle = null;
      return;
    }
    if (answer === null) this.fail(refusal);
    else if (this.handle !== null) this.onBlock(answer);
    else if (answer.variation === 4 && answer.status !== FileStatus.success)
      this.fail(`${name}: ${fileStatusWords(answer.status)}`);
    else if (this.key === null) this.onKey(answer);
    else if (what === 'deleteFile' && answer.variation === 4) this.outcome = { step: 'done', answer: {} };
    else if (what === 'fileInformation' && answer.variation === 7) {
      const { isDirectory, size, time } = answer;
      this.outcome = { step: 'done', answer: { directory: [{ name: answer.name, isDirectory, size, time }] } };
    } else if ((what === 'directory' || what === 'readFile') && answer.variation === 4) this.handle = answer.handle;
    else this.fail(`${name}: the device answered with g70v${answer.variation}`);
  }

  private fail(words: string): void {
    this.outcome = { step: 'failed', words };
  }

  private onKey(answer: FileObject): void {
    if (answer.variation !== 2) this.fail(`the device answered with g70v${answer.variation} instead of a key`);
    else if (answer.key === 0) this.fail('the device refused the name or the password');
    else this.key = answer.key;
  }

  private onBlock(answer: FileObject): void {
    const { what, name } = this.wish;
    if (answer.variation === 6 && answer.status !== 0) this.fail(`${name}: ${fileStatusWords(answer.status)}`);
    else if (answer.variation !== 5 || answer.handle !== this.handle || answer.block !== this.blocks.length)
      this.fail(`${name}: another block came than the one that was asked for`);
    else {
      if (answer.data.length === 0 && !answer.last) {
        this.fail(`${name}: an empty block that is not the last`);
        return;
      }
      this.blocks.push(answer.data);
      this.octets += answer.data.length;
      if (this.octets > MAX_FILE_OCTETS) this.fail(`${name} has more than ${MAX_FILE_OCTETS} octets`);
      else if (answer.last) {
        const content = joined(this.blocks, this.octets);
        const read = what === 'directory' ? { directory: readDirectory(content) } : { file: content };
        this.outcome = { step: 'done', answer: read };
      }
    }
  }
}

function joined(parts: readonly Uint8Array[], octets: number): Uint8Array {
  const whole = new Uint8Array(octets);
  let at = 0;
  for (const part of parts) {
    whole.set(part, at);
    at += part.length;
  }
  return whole;
}
