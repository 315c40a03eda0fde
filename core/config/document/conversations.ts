import { wayOut } from '../../protocols/index.ts';
import type { Configuration, DeviceConfig, LinkConfig, OutboundConfig } from './document.ts';

/** A device and an outbound that are one party, in one conversation on one link. */
export interface SharedConversation {
  device: DeviceConfig;
  outbound: OutboundConfig;
  /** They call us: the device is the guest of the outbound's conversation; otherwise the other way round. */
  isCalled: boolean;
}

/** Whether an outbound calls nobody on such a link, but is asked where the device it is has been called. */
export const isGuestOutbound = (
  { protocol }: Pick<OutboundConfig, 'protocol'>,
  { type }: Pick<LinkConfig, 'type'>,
): boolean => {
  const outbound = wayOut(protocol);
  return outbound?.shares !== undefined && !outbound.links.includes(type);
};

export function sharedConversations({ links, devices, outbounds }: Configuration): SharedConversation[] {
  return outbounds.flatMap((outbound) => {
    const { partner, link: code, protocol } = outbound;
    const device = partner === '' ? undefined : devices.find((one) => one.code === partner && one.link === code);
    const link = links.find((one) => one.code === code);
    if (device === undefined || link === undefined || wayOut(protocol)?.shares === undefined) return [];
    return [{ device, outbound, isCalled: !isGuestOutbound(outbound, link) }];
  });
}

/** Why an outbound cannot be on a link that carries devices; null: it can. */
export function sharingProblem(outbound: OutboundConfig, link: LinkConfig, shared: boolean): string | null {
  const { shares } = wayOut(outbound.protocol) ?? {};
  if (shares === undefined) return `its link ${link.code} carries devices: outbounds have links of their own`;
  if (shared || !isGuestOutbound(outbound, link)) return null;
  return `its link ${link.code} goes to devices: say which of them it is, and both have one ${shares}`;
}
