import {
  CENTRE_LINK_FIELDS,
  deviceFields,
  LINK_FIELDS,
  LOOPBACK_ONLY,
  OBJECT_SCHEMAS,
  outboundFields,
  type DeviceObject,
  type ObjectDocument,
  type OutboundObject,
} from '@halvix/core/config';
import {
  definitionOf,
  FIRST_PROTOCOL,
  isLinked,
  usualFraming,
  type ProtocolCode,
  type SettingField,
  deviceOf,
  wayOut,
} from '@halvix/core/protocols';

export type LinkObject = ObjectDocument<'link'>;

/** The fields of a device's page: the device and its link as one form, in the order in which people ask. */
export const deviceForm = (protocol: ProtocolCode): SettingField[] =>
  deviceFields(protocol).filter(({ path }) => path !== 'link' && path !== 'station');
const OF_ITS_OWN = ['code', 'name'];
const LINK_FORM = LINK_FIELDS.filter(({ path }) => !OF_ITS_OWN.includes(path));

export const deviceLinkForm = (protocol: ProtocolCode): SettingField[] => onWays(LINK_FORM, deviceOf(protocol).links);

/** Without the ways that a protocol does not go. */
const onWays = (fields: readonly SettingField[], ways: readonly string[]): SettingField[] =>
  fields.map((field) =>
    field.path === 'type'
      ? { ...field, choices: field.choices?.filter(([type]) => ways.includes(String(type))) }
      : field,
  );

/** The same of an outbound's page. */
export const outboundForm = (protocol: ProtocolCode, { type, tls }: LinkObject): SettingField[] =>
  outboundFields(protocol).filter(
    ({ path }) =>
      path !== 'link' &&
      ((path !== 'allowFrom' && path !== 'controlsFrom') || type === 'tcpServer') &&
      (path !== 'peerName' || (type === 'tcpServer' && tls.use)),
  );
export const centreLinkForm = (protocol: ProtocolCode): SettingField[] =>
  onWays(
    CENTRE_LINK_FIELDS.filter(({ path }) => !OF_ITS_OWN.includes(path)),
    wayOut(protocol)?.links ?? [],
  );

export const newDevice = (station: string, protocol: ProtocolCode = FIRST_PROTOCOL): DeviceObject => ({
  ...OBJECT_SCHEMAS.device.parse({
    code: 'NEW',
    name: 'New',
    station: 'NEW',
    link: isLinked(protocol) ? 'NEW' : '',
    protocol,
    life: 'inService',
    settings: deviceOf(protocol).first,
  }),
  code: '',
  name: '',
  station,
  link: '',
});

export const newLink = (protocol: ProtocolCode = FIRST_PROTOCOL): LinkObject => ({
  ...OBJECT_SCHEMAS.link.parse({
    code: 'NEW',
    name: 'New',
    type: 'tcpClient',
    protocol,
    framing: usualFraming(protocol, 'tcpClient'),
    // What needs no link has no port either: the form of one is not shown.
    port: (definitionOf(protocol).device?.port ?? wayOut(protocol)?.port) || undefined,
  }),
  code: '',
  name: '',
  host: '',
});

/** A link to a centre: the usual way, and a port that no other one listens on. */
export function newCentreLink(protocol: ProtocolCode, taken: readonly LinkObject[]): LinkObject {
  const outbound = wayOut(protocol);
  const type = outbound?.links[0] ?? 'tcpServer';
  let port = outbound?.port || 1;
  while (taken.some((link) => link.type === 'tcpServer' && link.port === port)) port++;
  return { ...newLink(protocol), type, framing: usualFraming(protocol, type), host: '127.0.0.1', port };
}

export const newOutbound = (protocol: ProtocolCode): OutboundObject => ({
  ...OBJECT_SCHEMAS.outbound.parse({
    ...{
      code: 'NEW',
      name: definitionOf(protocol).publishes ? 'copy' : 'centre',
      centre: 'New',
      link: 'NEW',
      protocol,
    },
    settings: wayOut(protocol)?.first,
    // Nobody from elsewhere, and nothing operated, until somebody says so.
    allowFrom: [...LOOPBACK_ONLY],
    controls: false,
  }),
  code: '',
  centre: '',
  link: '',
});

/** What another way needs: a framing that goes on it; a serial port has no host, and a bit rate always. */
export function fittedLink(given: LinkObject, before: LinkObject): LinkObject {
  const fits = definitionOf(given.protocol).framings.some(
    ({ code: own, links: types }) => own === given.framing && types.includes(given.type),
  );
  const next = fits ? given : { ...given, framing: usualFraming(given.protocol, given.type) };
  if (next.type !== 'serial' || before.type === 'serial') return next;
  const { bitRate } = next.line;
  return { ...next, line: { ...next.line, bitRate: bitRate === 0 ? 9600 : bitRate } };
}

/** A host that nobody is asked for stays at its default. */
export const completeLink = (next: LinkObject): LinkObject =>
  next.type === 'serial' && next.host === '' ? { ...next, host: '127.0.0.1' } : next;
