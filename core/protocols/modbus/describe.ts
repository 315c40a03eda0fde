import { EXCEPTION, exceptionWords } from './wire/pdu.ts';

const FUNCTION_WORDS: Record<number, string> = {
  0x01: 'read coils',
  0x02: 'read discrete inputs',
  0x03: 'read holding registers',
  0x04: 'read input registers',
  0x05: 'write single coil',
  0x06: 'write single register',
  0x08: 'diagnostics',
  0x0f: 'write multiple coils',
  0x10: 'write multiple registers',
  0x16: 'mask write register',
  0x17: 'read and write multiple registers',
  0x2b: 'read device identification',
};

/** A function in words (Modbus Application Protocol V1.1b3, 6). */
export const functionWords = (code: number): string => FUNCTION_WORDS[code & 0x7f] ?? `function ${code & 0x7f}`;

/** A unit of data in words: `unit 3, read holding registers`. */
export function describeFrame(unit: number, pdu: Uint8Array): string {
  const [code, second] = pdu;
  const refused = code & EXCEPTION ? `, ${exceptionWords(second)}` : '';
  return `unit ${unit}, ${functionWords(code)}${refused}`;
}
