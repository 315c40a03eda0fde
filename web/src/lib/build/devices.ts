import {
  DEVICE_FIELDS,
  LINK_FIELDS,
  OBJECT_SCHEMAS,
  type DeviceObject,
  type ObjectDocument,
} from '@halvix/core/config';

export type LinkObject = ObjectDocument<'link'>;

/** The fields of a device's page: the device and its link as one form, in the order in which people ask. */
export const DEVICE_FORM = DEVICE_FIELDS.filter(({ path }) => path !== 'link' && path !== 'station');
export const LINK_FORM = LINK_FIELDS.filter(({ path }) => path !== 'code' && path !== 'name');

export const newDevice = (station: string): DeviceObject => ({
  ...OBJECT_SCHEMAS.device.parse({
    code: 'NEW',
    name: 'New',
    station: 'NEW',
    link: 'NEW',
    protocol: 'dnp3',
    life: 'inService',
    settings: { ourAddress: 1, theirAddress: 0 },
  }),
  code: '',
  name: '',
  station,
  link: '',
});

export const newLink = (): LinkObject => ({
  ...OBJECT_SCHEMAS.link.parse({ code: 'NEW', name: 'New', type: 'tcpClient', port: 20000 }),
  code: '',
  name: '',
  host: '',
});
