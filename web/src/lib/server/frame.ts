import { endpointWords } from '@halvix/core/config';
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
          address: device.settings.theirAddress,
          ourAddress: device.settings.ourAddress,
          life: device.life,
          link: {
            code: device.link,
            name: link?.name ?? device.link,
            endpoint: link ? endpointWords(link) : '',
          },
          outbounds: outbounds.filter((o) => o.mappings.some((m) => m.device === device.code)).map(({ code }) => code),
        };
      }),
    outbounds: outbounds.map(({ code, name, centre, port, settings, mappings }) => ({
      code,
      name,
      centre,
      port,
      ourAddress: settings.ourAddress,
      theirAddress: settings.theirAddress,
      mapped: mappings.length,
    })),
  };
}
