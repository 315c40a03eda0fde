export { addressOf, inAddressOrder, readAddress, sortOf } from './definitions.ts';
