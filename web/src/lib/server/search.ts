import { outboundWayWords, type PointConfig } from '@halvix/core/config';
import { addressOf, inAddressOrder, deviceOf } from '@halvix/core/protocols';
import type { Model } from './model.ts';

export interface Found {
  what: 'station' | 'device' | 'outbound' | 'point';
  title: string;
  detail: string;
  href: string;
  /** Device whose path strip goes with it. */
  device: string | null;
}

const MAX_FOUND = 20;

/** What matches all words of the query, best kinds first: stations, devices, outbounds, points. */
export function search({ configuration, points }: Model, query: string): Found[] {
  const words = query.toLowerCase().split(/\s+/).filter(Boolean).slice(0, 8);
  if (words.length === 0) return [];
  const matches = (...texts: string[]): boolean => {
    const all = texts.join(' ').toLowerCase();
    return words.every((word) => all.includes(word));
  };
  const found: Found[] = [];
  for (const { code, name, description } of configuration.stations)
    if (matches(code, name, description))
      found.push({
        what: 'station',
        title: name,
        detail: `${code} · ${description}`,
        href: `/run?station=${code}`,
        device: null,
      });
  for (const { code, name, protocol, settings, link } of configuration.devices) {
    const where = deviceOf(protocol).where(settings);
    const at = configuration.links.find((l) => l.code === link);
    const endpoint = at ? `${at.host}:${at.port}` : '';
    if (matches(code, name, endpoint, where))
      found.push({
        what: 'device',
        title: `${code} ${name}`,
        detail: `${where} · ${endpoint}`,
        href: `/run/device/${code}`,
        device: code,
      });
  }
  for (const outbound of configuration.outbounds) {
    const { code, centre, link } = outbound;
    const way = outboundWayWords(
      outbound,
      configuration.links.find((one) => one.code === link),
    );
    if (matches(code, centre, way))
      found.push({
        what: 'outbound',
        title: centre,
        detail: `${code} · ${way}`,
        href: `/run/outbound/${code}`,
        device: null,
      });
  }
  const hits = [...points.values()]
    .filter(({ device, config }) => matches(device.code, config.name, addressOf(config)))
    .sort((a, b) => rank(a.config, words) - rank(b.config, words) || inAddressOrder(a.config, b.config));
  for (const { id, device, config } of hits)
    found.push({
      what: 'point',
      title: config.name,
      detail: `${device.code} · ${addressOf(config)}`,
      href: `/run/point/${id}`,
      device: device.code,
    });
  return found.slice(0, MAX_FOUND);
}

/** An exact address or the beginning of the name comes first. */
function rank(point: PointConfig, words: string[]): number {
  const text = words.join(' ');
  if (addressOf(point).toLowerCase() === text) return 0;
  return point.name.toLowerCase().startsWith(text) ? 1 : 2;
}
