import {
  bitsOf,
  bitString,
  boolean,
  booleanOf,
  characters,
  charactersOf,
  childrenOf,
  constructed,
  context,
  encodeBer,
  encoded,
  find,
  integer,
  Malformed,
  need,
  numberOf,
  objectIdentifier,
  objectIdentifierOf,
  octetsOf,
  primitive,
  sequence,
  Universal,
  wholeOf,
  type Element,
  type Node,
} from './ber.ts';

/** Values and their types (ISO 9506-2, clause 14: Data, TypeSpecification, AccessResult). */

export type Data =
  | { type: 'array' | 'structure'; items: readonly Data[] }
  | { type: 'boolean'; value: boolean }
  | { type: 'bits'; bits: readonly boolean[] }
  | { type: 'integer' | 'unsigned'; value: number | bigint }
  | { type: 'float'; value: number; width: 32 | 64 }
  | { type: 'octets'; octets: Uint8Array }
  /** Visible characters; `wide`: any of UTF-8. */
  | { type: 'text'; text: string; wide: boolean }
  /** Milliseconds of the day and, in six octets, days since 1984; or 32 bits of seconds, 24 of their fraction, quality. */
  | { type: 'binaryTime'; octets: Uint8Array }
  | { type: 'utcTime'; octets: Uint8Array }
  | { type: 'name'; identifier: string };

/** A value, or why there is none. */
export type AccessResult = Data | { type: 'failure'; code: number };

export type TypeOf =
  | { type: 'array'; count: number; element: TypeOf }
  | { type: 'structure'; components: readonly { name: string; of: TypeOf }[] }
  | { type: 'boolean' | 'utcTime' | 'name' }
  /** Bits or octets or characters; a negative number: at most so many. */
  | { type: 'bits' | 'octets' | 'text' | 'wideText'; size: number }
  | { type: 'integer' | 'unsigned'; bits: number }
  | { type: 'float'; width: number; exponent: number }
  /** `days`: with the day, six octets. */
  | { type: 'binaryTime'; days: boolean };

/** Data access errors (ISO 9506-2, 14.4.3.1). */
const ACCESS_ERRORS = [
  'the object is not valid any more',
  'hardware fault',
  'not to be had at the moment',
  'access denied',
  'no such object',
  'the address is not valid',
  'the type is not supported',
  'the type does not fit',
  'the attribute is not consistent',
  'this access is not supported',
  'no such object',
  'the value is not valid',
];
export const AccessError = {
  invalidated: 0,
  hardwareFault: 1,
  temporarilyUnavailable: 2,
  denied: 3,
  undefined: 4,
  typeInconsistent: 7,
  accessUnsupported: 9,
  nonExistent: 10,
  valueInvalid: 11,
} as const;
export const accessErrorWords = (code: number): string => ACCESS_ERRORS[code] ?? `error ${code}`;

/** Values in values may be so deep, whatever was agreed on. */
const MAX_NESTING = 20;

// ---- writing

/** Octets of structures that go out several times. */
const KNOWN = new WeakMap<Data, Uint8Array>();

/** Encodes a structure once for all messages that it will be in; it is not to be changed any more. */
export function encodedOnce(data: Data): Data {
  if (data.type === 'structure') KNOWN.set(data, encodeBer(dataNode(data)));
  return data;
}

export function dataNode(data: Data): Node {
  switch (data.type) {
    case 'array':
      return constructed(context(1), ...data.items.map(dataNode));
    case 'structure': {
      const known = KNOWN.get(data);
      return known === undefined ? constructed(context(2), ...data.items.map(dataNode)) : encoded(known);
    }
    case 'boolean':
      return boolean(context(3), data.value);
    case 'bits':
      return bitString(context(4), data.bits);
    case 'integer':
      return integer(context(5), data.value);
    case 'unsigned':
      return integer(context(6), data.value);
    case 'float':
      return primitive(context(7), floatOctets(data.value, data.width));
    case 'octets':
      return primitive(context(9), data.octets);
    case 'text':
      return characters(context(data.wide ? 16 : 10), data.text);
    case 'binaryTime':
      return primitive(context(12), data.octets);
    case 'name':
      return objectIdentifier(context(15), data.identifier);
    case 'utcTime':
      return primitive(context(17), data.octets);
    default:
      return data satisfies never;
  }
}

/** The octets of the exponent's width, then the number in IEEE 754 form (ISO 9506-2, 14.4.2.2). */
function floatOctets(value: number, width: 32 | 64): Uint8Array {
  const octets = new Uint8Array(1 + width / 8);
  const view = new DataView(octets.buffer);
  octets[0] = width === 32 ? 8 : 11;
  if (width === 32) view.setFloat32(1, value);
  else view.setFloat64(1, value);
  return octets;
}

export const resultNode = (result: AccessResult): Node =>
  result.type === 'failure' ? integer(context(0), result.code) : dataNode(result);

export function typeNode(of: TypeOf): Node {
  const nothing = new Uint8Array();
  switch (of.type) {
    case 'array':
      return constructed(context(1), integer(context(1), of.count), constructed(context(2), typeNode(of.element)));
    case 'structure': {
      const components = of.components.map((one) =>
        sequence(characters(context(0), one.name), constructed(context(1), typeNode(one.of))),
      );
      return constructed(context(2), constructed(context(1), ...components));
    }
    case 'boolean':
      return primitive(context(3), nothing);
    case 'bits':
      return integer(context(4), of.size);
    case 'integer':
      return integer(context(5), of.bits);
    case 'unsigned':
      return integer(context(6), of.bits);
    case 'float':
      return constructed(context(7), integer(Universal.integer, of.width), integer(Universal.integer, of.exponent));
    case 'octets':
      return integer(context(9), of.size);
    case 'text':
      return integer(context(10), of.size);
    case 'binaryTime':
      return boolean(context(12), of.days);
    case 'name':
      return primitive(context(15), nothing);
    case 'wideText':
      return integer(context(16), of.size);
    case 'utcTime':
      return primitive(context(17), nothing);
    default:
      return of satisfies never;
  }
}

// ---- reading

export function dataOf(octets: Uint8Array, element: Element, depth = 0): Data {
  if (depth > MAX_NESTING) throw new Malformed(`values in values, deeper than ${MAX_NESTING}`);
  const items = (): Data[] => childrenOf(element).map((child) => dataOf(octets, child, depth + 1));
  switch (element.tag) {
    case context(1):
      return { type: 'array', items: items() };
    case context(2):
      return { type: 'structure', items: items() };
    case context(3):
      return { type: 'boolean', value: booleanOf(octets, element) };
    case context(4):
      return { type: 'bits', bits: bitsOf(octets, element) };
    case context(5):
      return { type: 'integer', value: wholeOf(octets, element) };
    case context(6):
      return { type: 'unsigned', value: wholeOf(octets, element) };
    case context(7):
      return floatOf(octetsOf(octets, element));
    case context(9):
      return { type: 'octets', octets: octetsOf(octets, element) };
    case context(10):
      return { type: 'text', text: charactersOf(octets, element), wide: false };
    case context(12):
      return { type: 'binaryTime', octets: timeOctets(octetsOf(octets, element), [4, 6]) };
    case context(15):
      return { type: 'name', identifier: objectIdentifierOf(octets, element) };
    case context(16):
      return { type: 'text', text: charactersOf(octets, element), wide: true };
    case context(17):
      return { type: 'utcTime', octets: timeOctets(octetsOf(octets, element), [8]) };
    default:
      throw new Malformed('a value of a type that is not known here');
  }
}

function timeOctets(octets: Uint8Array, lengths: readonly number[]): Uint8Array {
  if (!lengths.includes(octets.length)) throw new Malformed(`a time of ${octets.length} octets`);
  return octets;
}

function floatOf(octets: Uint8Array): Data {
  const view = new DataView(octets.buffer, octets.byteOffset, octets.length);
  if (octets.length === 5 && octets[0] === 8) return { type: 'float', value: view.getFloat32(1), width: 32 };
  if (octets.length === 9 && octets[0] === 11) return { type: 'float', value: view.getFloat64(1), width: 64 };
  throw new Malformed(`a number of ${octets.length} octets with an exponent of ${octets[0] ?? 0} bits`);
}

export const resultOf = (octets: Uint8Array, element: Element): AccessResult =>
  element.tag === context(0)
    ? { type: 'failure', code: numberOf(octets, element, 'an access error', 0, 255) }
    : dataOf(octets, element);

const SIZE_LIMIT = 0x7fff_ffff;

export function typeOf(octets: Uint8Array, element: Element, depth = 0): TypeOf {
  if (depth > MAX_NESTING) throw new Malformed(`types in types, deeper than ${MAX_NESTING}`);
  const size = (): number => numberOf(octets, element, 'a size', -SIZE_LIMIT, SIZE_LIMIT);
  const only = (one: Element | undefined): TypeOf => {
    const inside = one && childrenOf(one)[0];
    if (inside === undefined) throw new Malformed('a type without its parts');
    return typeOf(octets, inside, depth + 1);
  };
  switch (element.tag) {
    case context(1):
      return {
        type: 'array',
        count: numberOf(octets, need(element, context(1), 'number of elements'), 'a number of elements', 0, SIZE_LIMIT),
        element: only(find(element, context(2))),
      };
    case context(2): {
      const components = childrenOf(need(element, context(1), 'components')).map((one) => {
        const name = find(one, context(0));
        return { name: name ? charactersOf(octets, name) : '', of: only(find(one, context(1))) };
      });
      return { type: 'structure', components };
    }
    case context(3):
      return { type: 'boolean' };
    case context(4):
      return { type: 'bits', size: size() };
    case context(5):
      return { type: 'integer', bits: size() };
    case context(6):
      return { type: 'unsigned', bits: size() };
    case context(7): {
      const [width, exponent] = childrenOf(element).map((one) => numberOf(octets, one, 'a width', 0, 255));
      return { type: 'float', width: width ?? 0, exponent: exponent ?? 0 };
    }
    case context(9):
      return { type: 'octets', size: size() };
    case context(10):
      return { type: 'text', size: size() };
    case context(12):
      return { type: 'binaryTime', days: booleanOf(octets, element) };
    case context(15):
      return { type: 'name' };
    case context(16):
      return { type: 'wideText', size: size() };
    case context(17):
      return { type: 'utcTime' };
    default:
      throw new Malformed('a type that is not known here');
  }
}
