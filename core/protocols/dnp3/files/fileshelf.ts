import { FunctionCode } from '../wire/application.ts';
import { FileStatus, MODE_READ, writeDirectory, type FileEntry, type FileObject } from './file.ts';

/** A file that an outstation has. */
export interface StoredFile {
  name: string;
  content: Uint8Array;
  time: number;
}

export interface ShelfRules {
  /** Who may use the files; absent: everybody. */
  credentials?: { user: string; password: string };
  mayDelete?: boolean;
}

/**
 * The files of an outstation: one open at a time. The empty name and "/" are the directory of all of them. Where
 * credentials are wanted, each open or delete needs a key, which is good for one.
 */
export class FileShelf {
  private files: readonly StoredFile[] = [];
  private rules: ShelfRules = {};
  isOffered = false;
  private key = 0;
  private lastKey = 0;
  private open: { handle: number; content: Uint8Array; maxBlock: number; next: number } | null = null;
  private lastHandle = 0;

  /** Without files and without rules there is no such thing as a file. */
  set(files: readonly StoredFile[], rules?: ShelfRules): void {
    this.files = files;
    this.rules = rules ?? {};
    this.isOffered = files.length > 0 || rules !== undefined;
  }

  reset(): void {
    this.open = null;
    this.key = 0;
  }

  /** `room`: octets of data that an answer holds. Null: no such object goes with that function. */
  answer(functionCode: number, asked: FileObject, room: number): FileObject | null {
    switch (functionCode) {
      case FunctionCode.authenticateFile:
        return asked.variation === 2 ? this.onAuthenticate(asked) : null;
      case FunctionCode.openFile:
        return asked.variation === 3 ? this.onOpen(asked, room) : null;
      case FunctionCode.read:
        return asked.variation === 5 ? this.onRead(asked) : null;
      case FunctionCode.closeFile:
        return asked.variation === 4 ? this.onClose(asked) : null;
      case FunctionCode.deleteFile:
        return asked.variation === 3 ? this.onDelete(asked) : null;
      default:
        return asked.variation === 7 ? this.onInformation(asked) : null;
    }
  }

  private onAuthenticate({ user, password }: FileObject & { variation: 2 }): FileObject {
    const { credentials } = this.rules;
    const known = credentials === undefined || (credentials.user === user && credentials.password === password);
    this.lastKey = (this.lastKey % 0xffff) + 1;
    this.key = known ? this.lastKey : 0;
    return { variation: 2, user: '', password: '', key: this.key };
  }

  /** Takes a key: it is good for one thing. */
  private admits(key: number): boolean {
    if (this.rules.credentials === undefined) return true;
    const good = this.key !== 0 && key === this.key;
    this.key = 0;
    return good;
  }

  /** Removes a file; the status says whether it did. */
  private onDelete({ name, key, requestId }: FileObject & { variation: 3 }): FileObject {
    const status = ((): number => {
      if (!this.admits(key) || !this.rules.mayDelete) return FileStatus.permissionDenied;
      return this.files.some((one) => one.name === name) ? FileStatus.success : FileStatus.notFound;
    })();
    if (status === FileStatus.success) this.files = this.files.filter((one) => one.name !== name);
    return { variation: 4, handle: 0, size: 0, maxBlock: 0, requestId, status };
  }

  private onOpen({ name, key, mode, maxBlock, requestId }: FileObject & { variation: 3 }, room: number): FileObject {
    const failed = (status: number): FileObject => ({
      variation: 4,
      handle: 0,
      size: 0,
      maxBlock: 0,
      requestId,
      status,
    });
    if (!this.admits(key)) return failed(FileStatus.permissionDenied);
    if (mode !== MODE_READ) return failed(2);
    if (this.open !== null) return failed(4);
    const content = this.contentOf(name);
    if (content === null) return failed(FileStatus.notFound);
    const handle = ++this.lastHandle;
    const block = Math.max(1, Math.min(maxBlock, room));
    this.open = { handle, content, maxBlock: block, next: 0 };
    return { variation: 4, handle, size: content.length, maxBlock: block, requestId, status: FileStatus.success };
  }

  private onRead({ handle, block }: { handle: number; block: number }): FileObject {
    const { open } = this;
    if (open?.handle !== handle)
      return {
        variation: 6,
        handle,
        block,
        last: false,
        status: open ? FileStatus.invalidHandle : FileStatus.notOpened,
      };
    // The block before may be asked for again: its answer was lost.
    if (block !== open.next && block !== open.next - 1)
      return { variation: 6, handle, block, last: false, status: FileStatus.blockSequence };
    open.next = block + 1;
    const data = open.content.slice(block * open.maxBlock, (block + 1) * open.maxBlock);
    return { variation: 5, handle, block, last: (block + 1) * open.maxBlock >= open.content.length, data };
  }

  private onClose({ handle, requestId }: { handle: number; requestId: number }): FileObject {
    const status = this.open?.handle === handle ? FileStatus.success : FileStatus.invalidHandle;
    if (status === FileStatus.success) this.open = null;
    return { variation: 4, handle, size: 0, maxBlock: 0, requestId, status };
  }

  /** The descriptor of a file, or the status that says why there is none. */
  private onInformation({ name, requestId }: { name: string; requestId: number }): FileObject {
    const file = this.files.find((one) => one.name === name);
    if (file === undefined)
      return { variation: 4, handle: 0, size: 0, maxBlock: 0, requestId, status: FileStatus.notFound };
    return { variation: 7, requestId, ...entryOf(file) };
  }

  private contentOf(name: string): Uint8Array | null {
    if (name === '' || name === '/') return writeDirectory(this.files.map(entryOf));
    return this.files.find((one) => one.name === name)?.content ?? null;
  }
}

const entryOf = ({ name, content, time }: StoredFile): FileEntry => ({
  name,
  isDirectory: false,
  size: content.length,
  time,
});
