import ipaddr from 'ipaddr.js';

/** Which networks may connect: addresses and networks in CIDR notation (RFC 4632, RFC 4291). */

export const LOOPBACK_ONLY: readonly string[] = ['127.0.0.0/8', '::1/128'];
export const EVERYBODY: readonly string[] = ['0.0.0.0/0', '::/0'];

function networkOf(text: string): [ipaddr.IPv4 | ipaddr.IPv6, number] | null {
  try {
    if (text.includes('/')) return ipaddr.parseCIDR(text);
    const address = ipaddr.parse(text);
    return [address, address.kind() === 'ipv4' ? 32 : 128];
  } catch {
    return null;
  }
}

export const isNetwork = (text: string): boolean => networkOf(text) !== null;

/** Whether one of the networks holds the address. An IPv4 address in IPv6 clothes is the IPv4 address. */
export function isAllowed(address: string, networks: readonly string[]): boolean {
  let known: ipaddr.IPv4 | ipaddr.IPv6;
  try {
    known = ipaddr.process(address.split('%')[0]);
  } catch {
    return false;
  }
  return networks.some((text) => {
    const network = networkOf(text);
    return network !== null && network[0].kind() === known.kind() && known.match(network as never);
  });
}

/** Whether an address stands there by itself, and not only within a network. */
export const isNamed = (address: string, networks: readonly string[]): boolean =>
  isAllowed(
    address,
    networks.filter((text) => {
      const network = networkOf(text);
      return network !== null && network[1] === network[0].toByteArray().length * 8;
    }),
  );

/** Whether an address is in a network of both. */
export const doMeet = (one: readonly string[], other: readonly string[]): boolean =>
  one.some((a) => isAllowed(a.split('/')[0], other)) || other.some((b) => isAllowed(b.split('/')[0], one));

export const allowsEverybody = (networks: readonly string[]): boolean =>
  networks.some((text) => networkOf(text)?.[1] === 0);

/** Whether nobody but this machine itself may connect. */
export const isLoopbackOnly = (networks: readonly string[]): boolean =>
  networks.every((text) => {
    const network = networkOf(text);
    return network !== null && network[0].range() === 'loopback';
  });
