import { isAllowed } from '@halvix/core/config';
import { lookup as lookUp, type LookupAddress } from 'node:dns';
import { isIP, type LookupFunction } from 'node:net';

/** Networks in which devices and centres are that we connect to; none: any. */
const fieldNetworks = (): string[] =>
  (process.env.HALVIX_FIELD_NETWORKS ?? '')
    .split(',')
    .map((text) => text.trim())
    .filter((text) => text !== '');

const isWithin = (address: string): boolean => {
  const networks = fieldNetworks();
  return networks.length === 0 || isAllowed(address, networks);
};

const outside = (address: string): Error =>
  new Error(`${address} is outside the networks that may be connected to: ${fieldNetworks().join(', ')}`);

/**
 * Finds the address of a name among the networks that may be connected to. It is what connections are made with, so
 * that a name which changes its address between two questions gains nothing.
 */
export const lookupWithin: LookupFunction = (name, options, answer) => {
  lookUp(name, { ...options, all: true }, (error, found: LookupAddress[]) => {
    if (error) return answer(error, []);
    const good = found.filter(({ address }) => isWithin(address));
    if (good.length === 0) return answer(outside(found[0]?.address ?? name), []);
    if (options.all) answer(null, good);
    else answer(null, good[0].address, good[0].family);
  });
};

/** Throws, in words, for an address outside them; a name is judged when it is looked up. */
export function assertWithin(host: string): void {
  if (isIP(host.split('%')[0]) !== 0 && !isWithin(host)) throw outside(host);
}
