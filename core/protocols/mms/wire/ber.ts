import type { Result } from '../../../session/index.ts';

/*
 * The basic encoding rules of ASN.1 (ITU-T X.690, clause 8).
 *
 *   identifier  class (2 bits), constructed (1), number (5); a number of 31 or more follows in octets of 7 bits
 *   length      0 to 127 in one octet; longer ones after an octet with their count; 80: until two zero octets
 *   content     octets of a value, or elements
 */

const CLASSES = { universal: 0, application: 1, context: 2, private: 3 } as const;
type TagClass = keyof typeof CLASSES;

/** Class and number of a tag, as one number. */
export type Tag = number;
const CLASS_SHIFT = 0x1000_0000;
const tagOf = (kind: TagClass, number: number): Tag => CLASSES[kind] * CLASS_SHIFT + number;
export const context = (number: number): Tag => tagOf('context', number);
export const application = (number: number): Tag => tagOf('application', number);

/** Universal tags (ITU-T X.680, clause 8.4). */
export const Universal = {
  boolean: 1,
  integer: 2,
  bitString: 3,
  octetString: 4,
  null: 5,
  objectIdentifier: 6,
  external: 8,
  sequence: 16,
  set: 17,
  visibleString: 26,
  generalString: 27,
  graphicString: 25,
} as const;

export const tagWords = (tag: Tag): string => {
  const [kind, number] = [Math.floor(tag / CLASS_SHIFT), tag % CLASS_SHIFT];
  const name = Object.keys(CLASSES)[kind];
  return name === 'context' ? `[${number}]` : `[${name.toUpperCase()} ${number}]`;
};

// ---- writing

/** An element that is to be written: octets of a value, or elements. */
export interface Node {
  tag: Tag;
  content: Uint8Array | readonly Node[];
}

export const primitive = (tag: Tag, content: Uint8Array): Node => ({ tag, content });
/** Elements; what is null is left out. */
export const constructed = (tag: Tag, ...content: readonly (Node | null)[]): Node => {
  return { tag, content: content.filter((node) => node !== null) };
};
export const sequence = (...content: readonly (Node | null)[]): Node => constructed(Universal.sequence, ...content);

export const boolean = (tag: Tag, value: boolean): Node => primitive(tag, Uint8Array.of(value ? 0xff : 0));

/** A whole number of up to 64 bits with sign, in the fewest octets (8.3). */
export function integer(tag: Tag, value: number | bigint): Node {
  const octets: number[] = [];
  if (typeof value === 'number' && Number.isSafeInteger(value)) {
    let rest = value;
    do {
      octets.unshift(((rest % 256) + 256) % 256);
      rest = Math.floor(rest / 256);
    } while (!(rest === 0 && octets[0] < 0x80) && !(rest === -1 && octets[0] >= 0x80));
    return primitive(tag, Uint8Array.from(octets));
  }
  let rest = BigInt(value);
  do {
    octets.unshift(Number(rest & 0xffn));
    rest >>= 8n;
  } while (!(rest === 0n && octets[0] < 0x80) && !(rest === -1n && octets[0] >= 0x80));
  return primitive(tag, Uint8Array.from(octets));
}

/** Bits, the first one first (8.6): the first octet says how many of the last one are none. */
export function bitString(tag: Tag, bits: readonly boolean[]): Node {
  const content = new Uint8Array(1 + Math.ceil(bits.length / 8));
  content[0] = (content.length - 1) * 8 - bits.length;
  bits.forEach((bit, at) => {
    if (bit) content[1 + (at >> 3)] |= 0x80 >> (at & 7);
  });
  return primitive(tag, content);
}

export const characters = (tag: Tag, text: string): Node => primitive(tag, new TextEncoder().encode(text));

/** An object identifier as it is written: `1.0.9506.2.3` (8.19). */
export function objectIdentifier(tag: Tag, text: string): Node {
  const [first, second, ...rest] = text.split('.').map(Number);
  const octets = [first * 40 + second, ...rest].flatMap((arc) => {
    const own = [arc & 0x7f];
    for (let more = Math.floor(arc / 128); more > 0; more = Math.floor(more / 128)) own.unshift((more & 0x7f) | 0x80);
    return own;
  });
  return primitive(tag, Uint8Array.from(octets));
}

/** Something that is encoded already, as it stands. */
export const encoded = (octets: Uint8Array): Node => ({ tag: ENCODED, content: octets });
const ENCODED = -1;

/** Elements in the definite form, each length in the fewest octets. */
export function encodeBer(node: Node): Uint8Array {
  const sizes = new Map<Node, number>();
  const sizeOf = (one: Node): number => {
    const { content } = one;
    const size = content instanceof Uint8Array ? content.length : content.reduce((sum, each) => sum + sizeOf(each), 0);
    sizes.set(one, size);
    return one.tag === ENCODED ? size : size + identifierOctets(one.tag) + lengthOctets(size);
  };
  const out = new Uint8Array(sizeOf(node));
  let at = 0;
  const write = (one: Node): void => {
    const { tag, content } = one;
    const size = sizes.get(one) ?? 0;
    if (tag !== ENCODED) {
      at = writeIdentifier(out, at, tag, !(content instanceof Uint8Array));
      at = writeLength(out, at, size);
    }
    if (content instanceof Uint8Array) {
      out.set(content, at);
      at += size;
    } else content.forEach(write);
  };
  write(node);
  return out;
}

function identifierOctets(tag: Tag): number {
  const number = tag % CLASS_SHIFT;
  return number < 31 ? 1 : number < 0x80 ? 2 : number < 0x4000 ? 3 : 4;
}
const lengthOctets = (size: number): number => (size < 0x80 ? 1 : size < 0x100 ? 2 : size < 0x1_0000 ? 3 : 5);

function writeIdentifier(out: Uint8Array, start: number, tag: Tag, isConstructed: boolean): number {
  let at = start;
  const number = tag % CLASS_SHIFT;
  const first = (Math.floor(tag / CLASS_SHIFT) << 6) | (isConstructed ? 0x20 : 0);
  if (number < 31) {
    out[at++] = first | number;
    return at;
  }
  out[at++] = first | 0x1f;
  for (let shift = 7 * (identifierOctets(tag) - 2); shift >= 0; shift -= 7)
    out[at++] = ((number >> shift) & 0x7f) | (shift > 0 ? 0x80 : 0);
  return at;
}

function writeLength(out: Uint8Array, start: number, size: number): number {
  let at = start;
  const octets = lengthOctets(size) - 1;
  if (octets === 0) {
    out[at++] = size;
    return at;
  }
  out[at++] = 0x80 | octets;
  for (let shift = 8 * (octets - 1); shift >= 0; shift -= 8) out[at++] = (size >>> shift) & 0xff;
  return at;
}

// ---- reading

/** An element that was read. */
export interface Element {
  tag: Tag;
  /** Where it begins in the octets, where its content does, and where it ends; an indefinite form ends with its zeros. */
  at: number;
  contentAt: number;
  contentEnd: number;
  end: number;
  /** Null: it is primitive. */
  children: readonly Element[] | null;
}

/** What a peer sent is not what it has to be. Never leaves this folder but as the problem of a `Result`. */
export class Malformed extends Error {}

/** The result of reading what a peer sent. */
export function reading<Value>(read: () => Value): Result<Value, string> {
  try {
    return { ok: true, value: read() };
  } catch (error) {
    if (error instanceof Malformed) return { ok: false, problem: error.message };
    throw error;
  }
}

/** Deeper than anything that makes sense; MMS says itself how deep its own data may be. */
const MAX_DEPTH = 40;
/** More elements than any message has that fits the sizes that are agreed on. */
const MAX_ELEMENTS = 200_000;

/** Reads one element and all that is in it; throws `Malformed`. */
export function parseBer(octets: Uint8Array, start = 0, end = octets.length): Element {
  let elements = 0;
  const parse = (at: number, limit: number, depth: number): Element => {
    if (++elements > MAX_ELEMENTS) throw new Malformed(`more than ${MAX_ELEMENTS} elements`);
    if (depth > MAX_DEPTH) throw new Malformed(`elements in elements, deeper than ${MAX_DEPTH}`);
    const head = readHead(octets, at, limit);
    const { tag, isConstructed, contentAt, length } = head;
    if (length === null) {
      const children: Element[] = [];
      let next = contentAt;
      while (!isEnd(octets, next, limit)) {
        const child = parse(next, limit, depth + 1);
        children.push(child);
        next = child.end;
      }
      return { tag, at, contentAt, contentEnd: next, end: next + 2, children };
    }
    const contentEnd = contentAt + length;
    if (contentEnd > limit)
      throw new Malformed(`an element ${tagWords(tag)} of ${length} octets, where ${limit - contentAt} are left`);
    if (!isConstructed) return { tag, at, contentAt, contentEnd, end: contentEnd, children: null };
    const children: Element[] = [];
    for (let next = contentAt; next < contentEnd;) {
      const child = parse(next, contentEnd, depth + 1);
      children.push(child);
      next = child.end;
    }
    return { tag, at, contentAt, contentEnd, end: contentEnd, children };
  };
  return parse(start, end, 0);
}

/** Whether two zero octets end an indefinite form here. */
function isEnd(octets: Uint8Array, at: number, limit: number): boolean {
  if (at + 2 > limit) throw new Malformed('an element without its end');
  return octets[at] === 0 && octets[at + 1] === 0;
}

interface Head {
  tag: Tag;
  isConstructed: boolean;
  contentAt: number;
  /** Null: indefinite. */
  length: number | null;
}

function readHead(octets: Uint8Array, start: number, limit: number): Head {
  let at = start;
  const next = (): number => {
    if (at >= limit) throw new Malformed('an element that is cut off');
    return octets[at++];
  };
  const first = next();
  const isConstructed = (first & 0x20) !== 0;
  let number = first & 0x1f;
  if (number === 31) {
    number = 0;
    for (let more = true; more;) {
      const octet = next();
      if (number > 0x1f_ffff) throw new Malformed('a tag number of more than 28 bits');
      number = number * 128 + (octet & 0x7f);
      more = (octet & 0x80) !== 0;
    }
  }
  const tag = (first >> 6) * CLASS_SHIFT + number;
  const short = next();
  if (short < 0x80) return { tag, isConstructed, contentAt: at, length: short };
  if (short === 0x80) {
    if (!isConstructed) throw new Malformed(`a primitive element ${tagWords(tag)} of indefinite length`);
    return { tag, isConstructed, contentAt: at, length: null };
  }
  let length = 0;
  for (let left = short & 0x7f; left > 0; left--) {
    length = length * 256 + next();
    if (length > 0x7fff_ffff) throw new Malformed(`an element ${tagWords(tag)} of more than 2^31 octets`);
  }
  return { tag, isConstructed, contentAt: at, length };
}

// ---- what is in an element

export const contentOf = (octets: Uint8Array, { contentAt, contentEnd }: Element): Uint8Array =>
  octets.subarray(contentAt, contentEnd);

export function childrenOf(element: Element): readonly Element[] {
  if (element.children === null) throw new Malformed(`${tagWords(element.tag)} has no elements in it`);
  return element.children;
}

/** The first element with that tag in it; undefined: there is none. */
export const find = (element: Element, tag: Tag): Element | undefined =>
  childrenOf(element).find((child) => child.tag === tag);

export function need(element: Element, tag: Tag, what: string): Element {
  const found = find(element, tag);
  if (found === undefined) throw new Malformed(`no ${what}`);
  return found;
}

/** Octets of a primitive element, or of all parts of one that comes in parts (8.7.3). */
export function octetsOf(octets: Uint8Array, element: Element): Uint8Array {
  if (element.children === null) return contentOf(octets, element);
  const parts = element.children.map((part) => octetsOf(octets, part));
  const whole = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0));
  let at = 0;
  for (const part of parts) {
    whole.set(part, at);
    at += part.length;
  }
  return whole;
}

function primitiveOf(octets: Uint8Array, element: Element, what: string, least: number, most: number): Uint8Array {
  const { length } = contentOf(octets, element);
  if (element.children !== null) throw new Malformed(`${what} with elements in it`);
  if (length < least || length > most) throw new Malformed(`${what} of ${length} octets`);
  return contentOf(octets, element);
}

export const booleanOf = (octets: Uint8Array, element: Element): boolean =>
  primitiveOf(octets, element, 'a boolean', 1, 1)[0] !== 0;

/** A whole number with sign; one of more than 53 bits as bigint. */
export function wholeOf(octets: Uint8Array, element: Element): number | bigint {
  // Nine octets: 64 bits without sign may have a zero before them.
  const content = primitiveOf(octets, element, 'a whole number', 1, 9);
  if (content.length <= 6) {
    let value = content[0] >= 0x80 ? -1 : 0;
    for (const octet of content) value = value * 256 + octet;
    return value;
  }
  let value = content[0] >= 0x80 ? -1n : 0n;
  for (const octet of content) value = (value << 8n) | BigInt(octet);
  return value >= Number.MIN_SAFE_INTEGER && value <= Number.MAX_SAFE_INTEGER ? Number(value) : value;
}

/** A whole number within limits that are known beforehand. */
export function numberOf(octets: Uint8Array, element: Element, what: string, least: number, most: number): number {
  const value = wholeOf(octets, element);
  if (typeof value === 'bigint' || value < least || value > most)
    throw new Malformed(`${what} ${value} is not from ${least} to ${most}`);
  return value;
}

export function bitsOf(octets: Uint8Array, element: Element): boolean[] {
  const content = octetsOf(octets, element);
  const unused = content.length > 0 ? content[0] : 8;
  if (unused > 7 || (content.length === 1 && unused > 0))
    throw new Malformed('a bit string whose first octet is wrong');
  const bits: boolean[] = [];
  for (let at = 0; at < (content.length - 1) * 8 - unused; at++)
    bits.push((content[1 + (at >> 3)] & (0x80 >> (at & 7))) !== 0);
  return bits;
}

export function charactersOf(octets: Uint8Array, element: Element): string {
  return new TextDecoder().decode(octetsOf(octets, element));
}

export function objectIdentifierOf(octets: Uint8Array, element: Element): string {
  const content = primitiveOf(octets, element, 'an object identifier', 1, 64);
  const arcs: number[] = [];
  let arc = 0;
  for (const octet of content) {
    arc = arc * 128 + (octet & 0x7f);
    if (arc > Number.MAX_SAFE_INTEGER / 128) throw new Malformed('an object identifier with a number of over 46 bits');
    if ((octet & 0x80) !== 0) continue;
    arcs.push(arc);
    arc = 0;
  }
  if ((content[content.length - 1] & 0x80) !== 0) throw new Malformed('an object identifier that is cut off');
  const [first, ...rest] = arcs;
  const root = Math.min(2, Math.floor(first / 40));
  return [root, first - root * 40, ...rest].join('.');
}
