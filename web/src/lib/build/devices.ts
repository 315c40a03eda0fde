import { deviceFields, LINK_FIELDS, OBJECT_SCHEMAS, type DeviceObject, type ObjectDocument } from '@halvix/core/config';
import { definitionOf, FIRST_PROTOCOL, type ProtocolCode, type SettingField } from '@halvix/core/protocols';

export type LinkObject = ObjectDocument<'link'>;

/** The fields of a device's page: the device and its link as one form, in the order in which people ask. */
export const deviceForm = (protocol: ProtocolCode): SettingField[] =>
  deviceFields(protocol).filter(({ path }) => path !== 'link' && path !== 'station');
export const LINK_FORM = LINK_FIELDS.filter(({ path }) => path !== 'code' && path !== 'name');

export const newDevice = (station: string, protocol: ProtocolCode = FIRST_PROTOCOL): DeviceObject => ({
  ...OBJECT_SCHEMAS.device.parse({
    code: 'NEW',
    name: 'New',
    station: 'NEW',
    link: 'NEW',
    protocol,
    life: 'inService',
    settings: definitionOf(protocol).device.first,
  }),
  code: '',
  name: '',
  station,
  link: '',
});

/** The framing that is usual on such a link. */
export const usualFraming = (protocol: ProtocolCode, type: LinkObject['type']): string =>
  definitionOf(protocol).framings.find(({ links }) => links.includes(type))?.code ?? '';

export const newLink = (protocol: ProtocolCode = FIRST_PROTOCOL): LinkObject => ({
  ...OBJECT_SCHEMAS.link.parse({
    code: 'NEW',
    name: 'New',
    type: 'tcpClient',
    protocol,
    framing: usualFraming(protocol, 'tcpClient'),
    port: definitionOf(protocol).port,
  }),
  code: '',
  name: '',
  host: '',
});
