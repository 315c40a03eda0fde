import { ByteReader, ByteWriter } from '../../../bytes/index.ts';
import type { Result } from '../../../session/index.ts';

/*
 * File objects, g70 (IEEE 1815, annex A.31), each with qualifier 5b behind it: one object with its length before it.
 * Directories are files whose content is one descriptor after the other.
 */

const GROUP = 70;
const FREE_FORMAT = 0x5b;

export const FILE_STATUS_WORDS: Record<number, string> = {
  0: 'success',
  1: 'permission denied',
  2: 'invalid mode',
  3: 'there is no such file',
  4: 'another file is open',
  5: 'too many files are open',
  6: 'wrong handle',
  7: 'wrong block size',
  8: 'communication lost while it was open',
  9: 'the file cannot be abandoned',
  16: 'the file is not open',
  17: 'it took too long',
  18: 'wrong block number',
  255: 'undefined',
};
export const FileStatus = {
  success: 0,
  permissionDenied: 1,
  notFound: 3,
  invalidHandle: 6,
  notOpened: 16,
  blockSequence: 18,
} as const;
export const fileStatusWords = (status: number): string => FILE_STATUS_WORDS[status] ?? `status ${status}`;

/** Reading, as the mode of an open. */
export const MODE_READ = 1;
const LAST_BLOCK = 0x8000_0000;
/** Group, variation, qualifier, count, length. */
const HEADER_OCTETS = 6;

export type FileObject =
  /** Asks for a key, or gives it; a key of 0 is none. */
  | { variation: 2; user: string; password: string; key: number }
  | { variation: 3; name: string; key: number; mode: number; maxBlock: number; requestId: number }
  | { variation: 4; handle: number; size: number; maxBlock: number; requestId: number; status: number }
  | { variation: 5; handle: number; block: number; last: boolean; data: Uint8Array }
  | { variation: 6; handle: number; block: number; last: boolean; status: number }
  | ({ variation: 7; requestId: number } & FileEntry);

export interface FileEntry {
  name: string;
  isDirectory: boolean;
  /** Octets; of a directory, its number of entries. */
  size: number;
  /** Milliseconds since 1970 UTC. */
  time: number;
}

const TEXT = { encode: (text: string): Uint8Array => Uint8Array.from(text, (c) => c.charCodeAt(0) & 0x7f) };
const text = (octets: Uint8Array): string => String.fromCharCode(...octets);

/** The octets of an object without its header. */
function body(object: FileObject): Uint8Array {
  const out = new ByteWriter();
  switch (object.variation) {
    case 2: {
      // offset and size of the user's name 4, of the password 4, key 4, both
      const [user, password] = [TEXT.encode(object.user), TEXT.encode(object.password)];
      out.uint16(12).uint16(user.length);
      out.uint16(12 + user.length).uint16(password.length);
      return out.uint32(object.key).bytes(user).bytes(password).finish();
    }
    case 3: {
      // offset of the name 2, its size 2, time 6, permissions 2, key 4, size 4, mode 2, block 2, request 2
      const name = TEXT.encode(object.name);
      out.uint16(26).uint16(name.length).uint48(0).uint16(0).uint32(object.key).uint32(0);
      return out.uint16(object.mode).uint16(object.maxBlock).uint16(object.requestId).bytes(name).finish();
    }
    case 4:
      out.uint32(object.handle).uint32(object.size).uint16(object.maxBlock);
      return out.uint16(object.requestId).uint8(object.status).finish();
    case 5:
      out.uint32(object.handle).uint32((object.block | (object.last ? LAST_BLOCK : 0)) >>> 0);
      return out.bytes(object.data).finish();
    case 6:
      out.uint32(object.handle).uint32((object.block | (object.last ? LAST_BLOCK : 0)) >>> 0);
      return out.uint8(object.status).finish();
    case 7:
      writeDescriptor(out, object, object.requestId);
      return out.finish();
    default:
      return object satisfies never;
  }
}

/** offset of the name 2, its size 2, type 2 (0 directory, 1 file), size 4, time 6, permissions 2, request 2, name */
function writeDescriptor(out: ByteWriter, { name, isDirectory, size, time }: FileEntry, requestId: number): void {
  const octets = TEXT.encode(name);
  out
    .uint16(20)
    .uint16(octets.length)
    .uint16(isDirectory ? 0 : 1)
    .uint32(size);
  out
    .uint48(Math.max(0, Math.round(time)))
    .uint16(0x1ff)
    .uint16(requestId)
    .bytes(octets);
}

export function encodeFileObject(object: FileObject): Uint8Array {
  const octets = body(object);
  const out = new ByteWriter();
  out.uint8(GROUP).uint8(object.variation).uint8(FREE_FORMAT).uint8(1).uint16(octets.length);
  return out.bytes(octets).finish();
}

/** The one file object that a request or an answer carries. */
export function decodeFileObject(octets: Uint8Array, at: number): Result<FileObject, string> {
  const wrong = (problem: string): Result<FileObject, string> => ({ ok: false, problem });
  const left = octets.length - at;
  if (left < HEADER_OCTETS) return wrong(`a file object of ${left} octets, at least ${HEADER_OCTETS}`);
  const reader = new ByteReader(octets, at);
  const [group, variation, qualifier, count] = [reader.uint8(), reader.uint8(), reader.uint8(), reader.uint8()];
  if (group !== GROUP || qualifier !== FREE_FORMAT || count !== 1)
    return wrong(`g${group}v${variation} qualifier ${qualifier.toString(16)} is no file object`);
  const length = reader.uint16();
  if (length > reader.remaining) return wrong(`a file object of ${length} octets, ${reader.remaining} left`);
  const end = reader.offset + length;
  const start = reader.offset;
  const need = LEAST_OCTETS[variation];
  if (need === undefined) return wrong(`g70v${variation} is not known here`);
  if (length < need) return wrong(`g70v${variation} of ${length} octets, at least ${need}`);
  switch (variation) {
    case 2: {
      const [userAt, userSize, passwordAt, passwordSize] = [1, 2, 3, 4].map(() => reader.uint16());
      const key = reader.uint32();
      const user = named(octets, start, end, userAt, userSize);
      const password = named(octets, start, end, passwordAt, passwordSize);
      return user === null || password === null
        ? wrong('a name or a password beyond its object')
        : good({ variation, user, password, key });
    }
    case 3: {
      const [offset, size] = [reader.uint16(), reader.uint16()];
      reader.take(8);
      const key = reader.uint32();
      reader.take(4);
      const [mode, maxBlock, requestId] = [reader.uint16(), reader.uint16(), reader.uint16()];
      const name = named(octets, start, end, offset, size);
      return name === null
        ? wrong('a file name beyond its object')
        : good({ variation, name, key, mode, maxBlock, requestId });
    }
    case 4: {
      const [handle, size] = [reader.uint32(), reader.uint32()];
      const [maxBlock, requestId, status] = [reader.uint16(), reader.uint16(), reader.uint8()];
      return good({ variation, handle, size, maxBlock, requestId, status });
    }
    case 5:
    case 6: {
      const [handle, number] = [reader.uint32(), reader.uint32()];
      const block = { handle, block: number & 0x7fff_ffff, last: number >= LAST_BLOCK };
      return variation === 5
        ? good({ variation, ...block, data: octets.slice(reader.offset, end) })
        : good({ variation, ...block, status: reader.uint8() });
    }
    default: {
      const entry = readDescriptor(octets, start, end);
      return entry === null
        ? wrong('a file name beyond its object')
        : good({ variation: 7, ...entry.entry, requestId: entry.requestId });
    }
  }
}

const good = (value: FileObject): Result<FileObject, string> => ({ ok: true, value });
const LEAST_OCTETS: Partial<Record<number, number>> = { 2: 12, 3: 26, 4: 13, 5: 8, 6: 9, 7: 20 };

/** A name by its offset in the object; null when it does not lie within. */
function named(octets: Uint8Array, start: number, end: number, offset: number, size: number): string | null {
  return start + offset + size > end ? null : text(octets.subarray(start + offset, start + offset + size));
}

function readDescriptor(
  octets: Uint8Array,
  start: number,
  end: number,
): { entry: FileEntry; requestId: number; next: number } | null {
  if (end - start < 20) return null;
  const reader = new ByteReader(octets, start);
  const [offset, nameSize, type] = [reader.uint16(), reader.uint16(), reader.uint16()];
  const [size, time] = [reader.uint32(), reader.uint48()];
  reader.uint16();
  const requestId = reader.uint16();
  const name = named(octets, start, end, offset, nameSize);
  if (name === null) return null;
  return { entry: { name, isDirectory: type === 0, size, time }, requestId, next: start + offset + nameSize };
}

/** The entries of a directory's content; what is cut off at its end is left out. */
export function readDirectory(content: Uint8Array): FileEntry[] {
  const entries: FileEntry[] = [];
  for (let at = 0; at < content.length && entries.length < MAX_ENTRIES;) {
    const read = readDescriptor(content, at, content.length);
    if (read === null || read.next <= at) break;
    entries.push(read.entry);
    at = read.next;
  }
  return entries;
}

export function writeDirectory(entries: readonly FileEntry[]): Uint8Array {
  const out = new ByteWriter();
  for (const entry of entries) writeDescriptor(out, entry, 0);
  return out.finish();
}

const MAX_ENTRIES = 10_000;
