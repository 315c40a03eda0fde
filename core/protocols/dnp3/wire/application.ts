import type { Result } from '../../../session/index.ts';

/** Application function codes (IEEE 1815, table 4-3), as far as they are used or recognised here. */
export const FunctionCode = {
  confirm: 0,
  read: 1,
  write: 2,
  select: 3,
  operate: 4,
  directOperate: 5,
  directOperateNoAck: 6,
  immediateFreeze: 7,
  immediateFreezeNoAck: 8,
  freezeAndClear: 9,
  freezeAndClearNoAck: 10,
  coldRestart: 13,
  warmRestart: 14,
  enableUnsolicited: 20,
  disableUnsolicited: 21,
  assignClass: 22,
  delayMeasurement: 23,
  recordCurrentTime: 24,
  openFile: 25,
  closeFile: 26,
  deleteFile: 27,
  getFileInformation: 28,
  authenticateFile: 29,
  response: 129,
  unsolicitedResponse: 130,
} as const;

/** Internal indications (IEEE 1815, clause 4.2.2.7): first octet in bits 0–7, second in bits 8–15. */
export const Iin = {
  broadcast: 1 << 0,
  class1Events: 1 << 1,
  class2Events: 1 << 2,
  class3Events: 1 << 3,
  needTime: 1 << 4,
  localControl: 1 << 5,
  deviceTrouble: 1 << 6,
  deviceRestart: 1 << 7,
  functionNotSupported: 1 << 8,
  objectUnknown: 1 << 9,
  parameterError: 1 << 10,
  eventBufferOverflow: 1 << 11,
  alreadyExecuting: 1 << 12,
  configurationCorrupt: 1 << 13,
} as const;

export const IIN_CLASS_EVENTS = { 1: Iin.class1Events, 2: Iin.class2Events, 3: Iin.class3Events } as const;

const IIN_WORDS: readonly (readonly [number, string])[] = [
  [Iin.broadcast, 'broadcast received'],
  [Iin.class1Events, 'class 1 events wait'],
  [Iin.class2Events, 'class 2 events wait'],
  [Iin.class3Events, 'class 3 events wait'],
  [Iin.needTime, 'needs time'],
  [Iin.localControl, 'in local control'],
  [Iin.deviceTrouble, 'device trouble'],
  [Iin.deviceRestart, 'restarted'],
  [Iin.functionNotSupported, 'function code not supported'],
  [Iin.objectUnknown, 'object unknown'],
  [Iin.parameterError, 'parameter error'],
  [Iin.eventBufferOverflow, 'event buffer overflow'],
  [Iin.alreadyExecuting, 'already executing'],
  [Iin.configurationCorrupt, 'configuration corrupt'],
];

export const iinWords = (iin: number): string[] => IIN_WORDS.filter(([bit]) => iin & bit).map(([, word]) => word);

/** The device did not do what it was asked. */
export const REFUSED = Iin.functionNotSupported | Iin.objectUnknown | Iin.parameterError;
export const refusalOf = ({ iin }: Pick<Fragment, 'iin'>): number => (iin ?? 0) & REFUSED;

export interface ApplicationControl {
  first: boolean;
  final: boolean;
  confirm: boolean;
  unsolicited: boolean;
  sequence: number;
}

export interface Fragment {
  control: ApplicationControl;
  functionCode: number;
  /** Internal indications; null in a request. */
  iin: number | null;
  /** The whole fragment, and where its object headers begin. */
  octets: Uint8Array;
  objectsAt: number;
}

const isResponse = (code: number): boolean =>
  code === FunctionCode.response || code === FunctionCode.unsolicitedResponse;

const encodeControl = (c: ApplicationControl): number =>
  (c.first ? 0x80 : 0) |
  (c.final ? 0x40 : 0) |
  (c.confirm ? 0x20 : 0) |
  (c.unsolicited ? 0x10 : 0) |
  (c.sequence & 0x0f);

/**
 * IEEE 1815, clause 4.2.2.
 *
 *   control   1   FIR, FIN, CON, UNS, sequence (4 bits)
 *   function  1
 *   IIN       2   in responses only
 *   objects   …
 */
export function encodeFragment(
  control: ApplicationControl,
  functionCode: number,
  iin: number | null,
  objects: Uint8Array = new Uint8Array(0),
): Uint8Array {
  const headerOctets = iin === null ? 2 : 4;
  const out = new Uint8Array(headerOctets + objects.length);
  out[0] = encodeControl(control);
  out[1] = functionCode;
  if (iin !== null) {
    out[2] = iin & 0xff;
    out[3] = iin >>> 8;
  }
  out.set(objects, headerOctets);
  return out;
}

export function decodeFragment(octets: Uint8Array): Result<Fragment, string> {
  if (octets.length < 2) return { ok: false, problem: `fragment of ${octets.length} octets, at least 2` };
  const [first, functionCode] = octets;
  const response = isResponse(functionCode);
  if (response && octets.length < 4) return { ok: false, problem: `response of ${octets.length} octets, at least 4` };
  return {
    ok: true,
    value: {
      control: {
        first: (first & 0x80) !== 0,
        final: (first & 0x40) !== 0,
        confirm: (first & 0x20) !== 0,
        unsolicited: (first & 0x10) !== 0,
        sequence: first & 0x0f,
      },
      functionCode,
      iin: response ? octets[2] | (octets[3] << 8) : null,
      octets,
      objectsAt: response ? 4 : 2,
    },
  };
}

/** A request or response in one fragment. */
export const single = (sequence: number, confirm = false, unsolicited = false): ApplicationControl => ({
  first: true,
  final: true,
  confirm,
  unsolicited,
  sequence,
});
