import { deviceOf, wayOut } from '@halvix/core/protocols';
import { endpointWords, outboundWayWords } from '@halvix/core/config';
import type { DeviceOnPath, OutboundOnPath } from '../path.ts';
import type { Model } from './model.ts';

/** What every page knows of the configuration: stations, devices and outbounds, without the points. */
export interface Frame {
  network: string;
  revision: number | null;
  stations: { code: string; name: string; description: string }[];
  devices: DeviceOnPath[];
  outbounds: OutboundOnPath[];
}

export function frameOf({ configuration, revision }: Model): Frame {
  const { links, outbounds } = configuration;
  return {
    network: configuration.network,
    revision,
    stations: configuration.stations.map(({ code, name, description }) => ({ code, name, description })),
    devices: configuration.devices
      .filter(({ life }) => life !== 'drafted')
      .map((device) => {
        const link = links.find(({ code }) => code === device.link);
        return {
          code: device.code,
          name: device.name,
          station: device.station,
          description: device.description,
          protocol: device.protocol,
          where: deviceOf(device.protocol).where(device.settings),
          ourAddress: planned(deviceOf(device.protocol), device.settings, 'ours'),
          theirAddress: planned(deviceOf(device.protocol), device.settings, 'theirs'),
          life: device.life,
          link: {
            code: device.link,
            name: link?.name ?? device.link,
            endpoint: link ? endpointWords(link) : '',
          },
          outbounds: outbounds.filter((o) => o.mappings.some((m) => m.device === device.code)).map(({ code }) => code),
        };
      }),
    outbounds: outbounds.map(({ code, name, centre, link, protocol, settings, mappings }) => ({
      code,
      name,
      centre,
      link,
      way: outboundWayWords(
        { protocol, settings },
        links.find((one) => one.code === link),
      ),
      protocol,
      ourAddress: planned(wayOut(protocol), settings, 'ours'),
      theirAddress: planned(wayOut(protocol), settings, 'theirs'),
      mapped: mappings.length,
    })),
  };
}

/** What a protocol calls our or their address; null: it has none. */
function planned(
  side: { plan: { ours: string | null; theirs: string | null } } | null,
  settings: object,
  which: 'ours' | 'theirs',
): number | null {
  const key = side?.plan[which] ?? null;
  const value = key === null ? null : (settings as Record<string, unknown>)[key];
  return typeof value === 'number' ? value : null;
}
