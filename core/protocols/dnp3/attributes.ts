import { ByteReader, ByteWriter } from '../../bytes/index.ts';
import type { Fragment } from './wire/application.ts';
import { parseHeaders, writeRangeHeader } from './wire/header.ts';

/** What a device says of itself (IEEE 1815, annex A, group 0). */
export interface DeviceAttribute {
  variation: number;
  name: string;
  text: string;
}

/**
 * Names of the attributes that people ask for; the numbers agree with those of tshark's dissector (attributes.test.ts
 * and the whole-system test let it read ours).
 */
export const ATTRIBUTE_NAMES: Readonly<Partial<Record<number, string>>> = {
  205: 'Latitude',
  208: 'System name',
  216: 'Binary controls in one request',
  221: 'Analog outputs',
  224: 'Binary outputs',
  229: 'Counters',
  233: 'Analog inputs',
  236: 'Double-bit inputs',
  239: 'Binary inputs',
  240: 'Longest fragment sent, octets',
  241: 'Longest fragment taken, octets',
  242: 'Software version',
  243: 'Hardware version',
  245: 'Location',
  246: 'Identification',
  247: 'Name of the device',
  248: 'Serial number',
  249: 'Subset of DNP3',
  250: 'Product and model',
  252: 'Manufacturer',
};

/** Variation that asks for all attributes of a set. */
export const ALL_ATTRIBUTES = 254;
const TEXT = 1;
const UNSIGNED = 2;
const SIGNED = 3;
const FLOAT = 4;
const OCTETS = 5;

/** The attributes of an answer; those of a type that is not known are left out. */
export function deviceAttributes(fragment: Fragment): DeviceAttribute[] {
  const { headers } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  return headers.flatMap(({ type, variation, items }) => {
    if (type?.what !== 'attribute') return [];
    return items.flatMap(({ at }) => {
      const text = valueOf(fragment.octets, at);
      return text === null ? [] : [{ variation, name: ATTRIBUTE_NAMES[variation] ?? `Attribute ${variation}`, text }];
    });
  });
}

/**
 *   type    1   1 text, 2 unsigned, 3 signed, 4 floating point, 5 octets
 *   length  1
 *   value   …
 */
function valueOf(octets: Uint8Array, at: number): string | null {
  const [type, length] = [octets[at], octets[at + 1]];
  const value = octets.subarray(at + 2, at + 2 + length);
  switch (type) {
    case TEXT:
      // Printable ASCII; anything else is shown as a question mark.
      return String.fromCharCode(...value.map((octet) => (octet >= 0x20 && octet < 0x7f ? octet : 0x3f)));
    case UNSIGNED:
    case SIGNED: {
      if (length < 1 || length > 6) return null;
      let number = 0;
      for (let i = length - 1; i >= 0; i--) number = number * 256 + value[i];
      const half = 2 ** (8 * length - 1);
      return String(type === SIGNED && number >= half ? number - 2 * half : number);
    }
    case FLOAT: {
      const reader = new ByteReader(value, 0);
      return length === 4 ? String(reader.float32()) : length === 8 ? String(reader.float64()) : null;
    }
    case OCTETS:
      return [...value].map((octet) => octet.toString(16).padStart(2, '0')).join(' ');
    default:
      return null;
  }
}

/** Writes one attribute of set 0 as text, with its header. */
export function writeAttribute(out: ByteWriter, variation: number, text: string): void {
  const octets = [...text.slice(0, 255)].map((letter) => letter.charCodeAt(0) & 0x7f);
  writeRangeHeader(out, 0, variation, 0, 0);
  out.uint8(TEXT).uint8(octets.length).bytes(Uint8Array.from(octets));
}
