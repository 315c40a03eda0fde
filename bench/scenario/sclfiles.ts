import { reportsOf, sclOf, type Reference } from '@halvix/core/protocols/iec61850';
import {
  BAY_GROUPS,
  BAY_OBJECTS,
  BAY_POINTS,
  PARK_OBJECTS,
  PARK_POINTS,
  type ModelObject,
  type ModelPoint,
} from './iec61850.ts';

/** The files that describe the devices of the scenario which have a model, as their engineers hand them over. */
const fileOf = (
  ied: string,
  description: string,
  list: readonly ModelObject[],
  points: readonly ModelPoint[],
  port: number,
  more: Partial<Parameters<typeof sclOf>[0]> = {},
): string => {
  const nameOf = ({ node, object }: ModelObject): string =>
    // A data object of three phases is named without one.
    (points.find(({ at }) => at.reference.startsWith(`${ied}/${node}.${object}`))?.name ?? '').replace(/ L1$/, '');
  const objects = list.map((one) => ({ ...one, device: ied, description: nameOf(one), unit: '' }));
  const members = objects
    .filter(({ isGrouped }) => !isGrouped)
    .map(({ device, node, object, cdc }): Reference => ({
      ...{ device, node, path: [object] },
      fc: ['MV', 'WYE', 'CMV', 'APC'].includes(cdc) ? 'MX' : 'ST',
    }));
  const { dataSets, blocks } = reportsOf(members, { maxClients: 2, bufferValues: 50_000 });
  // Counts that change all the time are in no log.
  const counted = new Set(list.filter(({ cdc }) => cdc === 'BCR').map(({ object }) => object));
  const events = members.filter(({ fc, path }) => fc === 'ST' && !counted.has(path[0]));
  return sclOf({
    ...{ ied, description, objects, blocks },
    dataSets: [...dataSets, { device: ied, name: 'LLN0$events', members: events }],
    logs: [{ device: ied, name: 'EventLog', dataSet: 'LLN0$events' }],
    ...more,
    address: { ip: '127.0.0.1', port, selectors: { transport: '0001', session: '0001', presentation: '00000001' } },
  });
};

export const bayFile = (port: number): string =>
  fileOf('HLMB1', 'Bay controller', BAY_OBJECTS, BAY_POINTS, port, { groups: [BAY_GROUPS] });
export const parkFile = (port: number): string => fileOf('ORLPC', 'Plant controller', PARK_OBJECTS, PARK_POINTS, port);
