import ipaddr from 'ipaddr.js';
import { isAllowed } from '../document/access.ts';
import type { Configuration, LinkConfig, OutboundConfig } from '../document/document.ts';

/** What stands between a network and what we have: links on which somebody may call, and outbounds. */
export type Doors = Pick<Configuration, 'links'> & { outbounds: readonly Omit<OutboundConfig, 'mappings'>[] };

const octetsOf = (text: string): number[] | null => {
  const [address] = text.split('/');
  return ipaddr.isValid(address) ? ipaddr.parse(address).toByteArray() : null;
};

/** Whether everybody in a network was let in by one of others. */
function isCovered(network: string, by: readonly string[]): boolean {
  const octets = octetsOf(network);
  if (octets === null) return false;
  const lengthOf = (text: string): number => Number(text.split('/')[1] ?? octets.length * 8);
  return by.some((other) => {
    const [address] = network.split('/');
    return lengthOf(other) <= lengthOf(network) && isAllowed(address, [other]);
  });
}

const widened = (before: readonly string[], after: readonly string[]): string[] =>
  after.filter((network) => !isCovered(network, before));

/** `forCentres`: those have lists of their own, and the link's says nothing. */
function linkDoors(before: LinkConfig | undefined, after: LinkConfig, forCentres: boolean): string[] {
  if (after.type !== 'tcpServer') return [];
  const same = before?.type === 'tcpServer' && before.port === after.port ? before : undefined;
  const networks = forCentres ? [] : widened(same?.allowFrom ?? [], after.allowFrom);
  return [
    ...(networks.length > 0 ? [`may be called from ${networks.join(', ')}`] : []),
    ...(same && same.host !== after.host
      ? [`listens on ${after.host || 'all addresses'}, not ${same.host || 'all'}`]
      : []),
    ...(same?.tls.use && !after.tls.use ? ['asks for no certificate any more'] : []),
  ];
}

function outboundDoors(before: Doors['outbounds'][number] | undefined, after: Doors['outbounds'][number]): string[] {
  const operating = (one: typeof before): readonly string[] => (one?.controls ? one.controlsFrom : []);
  const networks = widened(before?.allowFrom ?? [], after.allowFrom);
  const operators = widened(operating(before), operating(after));
  return [
    ...(networks.length > 0 ? [`its centre may connect from ${networks.join(', ')}`] : []),
    ...(operators.length > 0 ? [`its centre may operate from ${operators.join(', ')}`] : []),
    ...(before && before.peerName !== '' && after.peerName !== before.peerName
      ? [`a certificate of ${after.peerName || 'any name'} will do, not of ${before.peerName}`]
      : []),
  ];
}

/** What somebody may who could not before, in words for the security log: a line for each link and outbound. */
export function doorsOpened(before: Doors, after: Doors): string[] {
  const centres = new Set(after.outbounds.map(({ link }) => link));
  const lines = (kind: string, code: string, words: readonly string[]): string[] =>
    words.length > 0 ? [`${kind} ${code}: ${words.join('; ')}`] : [];
  return [
    ...after.links.flatMap((link) => {
      const known = before.links.find(({ code }) => code === link.code);
      return lines('link', link.code, linkDoors(known, link, centres.has(link.code)));
    }),
    ...after.outbounds.flatMap((outbound) => {
      const known = before.outbounds.find(({ code }) => code === outbound.code);
      return lines('outbound', outbound.code, outboundDoors(known, outbound));
    }),
  ];
}
