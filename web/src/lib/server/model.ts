import { EMPTY_CONFIGURATION, type Configuration, type DeviceConfig, type PointConfig } from '@halvix/core/config';
import { addressOf } from '@halvix/core/protocols';
import { newestRevision, newestRevisionId, pointNumbers, type PointNumbers } from '@halvix/db';
import { database } from './database.ts';

export interface ModelPoint {
  id: number;
  device: DeviceConfig;
  config: PointConfig;
}

/** The configuration in force, with the numbers of its points. */
export interface Model {
  revision: number | null;
  configuration: Configuration;
  numbers: PointNumbers | null;
  points: ReadonlyMap<number, ModelPoint>;
}

let held: Model = { revision: null, configuration: EMPTY_CONFIGURATION, numbers: null, points: new Map() };
let checkedAt = 0;
let loading: Promise<Model> | null = null;
const CHECK_MS = 1000;

/** A new revision was announced: read it at the next use. */
export function forgetModel(): void {
  checkedAt = 0;
}

export async function model(): Promise<Model> {
  if (Date.now() - checkedAt < CHECK_MS) return held;
  loading ??= load().finally(() => (loading = null));
  return loading;
}

async function load(): Promise<Model> {
  const newest = await newestRevisionId(database);
  if (newest !== held.revision) {
    const revision = await newestRevision(database);
    if (revision !== null) {
      const numbers = await pointNumbers(database);
      const points = new Map<number, ModelPoint>();
      for (const device of revision.configuration.devices)
        for (const config of device.points) {
          const id = numbers.get(device.code, addressOf(config));
          if (id !== undefined) points.set(id, { id, device, config });
        }
      held = { revision: revision.id, configuration: revision.configuration, numbers, points };
    }
  }
  checkedAt = Date.now();
  return held;
}

/** A device by its code, as people write it. */
export const deviceByCode = (from: Model, code: string): DeviceConfig | undefined =>
  from.configuration.devices.find((device) => device.code === code.toUpperCase());
