export type { Carrying, MarkedFrame, Measured } from './measured.ts';
export { addressOf, inAddressOrder, readAddress, sortOf } from './definitions.ts';
