import { sclOf, type Written } from '../scl/write.ts';
import { reportsOf, type WantedObject } from '../server/made.ts';
import type { Reference } from '../model/reference.ts';

/** The file of a device with something of everything: for servers that are to be like it. */
const OBJECTS: readonly (Omit<WantedObject, 'device' | 'model'> & Partial<WantedObject>)[] = [
  { node: 'XCBR1', object: 'Pos', cdc: 'DPC' },
  { node: 'CSWI1', object: 'Pos', cdc: 'DPC', model: 'selectBeforeOperateEnhanced' },
  { node: 'MMXU1', object: 'A', cdc: 'WYE' },
  { node: 'MMXU1', object: 'TotW', cdc: 'MV', isReplaceable: true },
  { node: 'MMTR1', object: 'TotWh', cdc: 'BCR' },
  { node: 'PTOC1', object: 'Op', cdc: 'ACT' },
  { node: 'PTOC1', object: 'StrVal', cdc: 'ASG', isGrouped: true },
  { node: 'PTOC1', object: 'OpDlTmms', cdc: 'ING', isGrouped: true },
  { node: 'GGIO1', object: 'Ind1', cdc: 'SPS', isReplaceable: true },
  { node: 'GGIO1', object: 'Ind2', cdc: 'SPS' },
  { node: 'GGIO1', object: 'SPCSO1', cdc: 'SPC', model: 'direct' },
  { node: 'GGIO1', object: 'AnOut1', cdc: 'APC', model: 'directEnhanced' },
];
const MEASURED = new Set(['MV', 'WYE', 'APC']);

export function bayText(more: Partial<Written> = {}): string {
  const objects = OBJECTS.map((one) => ({
    ...{ device: 'BAY1', model: 'statusOnly' as const, description: '', unit: '' },
    ...one,
  }));
  const members = objects
    .filter(({ isGrouped }) => !isGrouped)
    .map(({ device, node, object, cdc }): Reference => ({
      ...{ device, node, path: [object] },
      fc: MEASURED.has(cdc) ? 'MX' : 'ST',
    }));
  return sclOf({
    ...{ ied: 'BAY', description: 'Bay', objects, ...reportsOf(members, { maxClients: 2, bufferValues: 1000 }) },
    groups: [
      {
        ...{ device: 'BAY1', count: 3, active: 1 },
        values: [
          { node: 'PTOC1', path: ['StrVal', 'setMag', 'f'], values: ['480', '560', '640'] },
          { node: 'PTOC1', path: ['OpDlTmms', 'setVal'], values: ['400', '300', '200'] },
        ],
      },
    ],
    logs: [{ device: 'BAY1', name: 'EventLog', dataSet: 'LLN0$status' }],
    address: {
      ...{ ip: '127.0.0.1', port: 102 },
      selectors: { transport: '0001', session: '0001', presentation: '00000001' },
    },
    ...more,
  });
}
