export { ByteReader } from './reader.ts';
export { ByteWriter } from './writer.ts';
export { concat, fromHex, sameBytes, toHex } from './hex.ts';
export { octetText } from './text.ts';
