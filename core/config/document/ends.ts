import { definitionOf, deviceOf, wayOut, type TwoEnds } from '../../protocols/index.ts';
import type { DeviceObject, ObjectDocument, OutboundObject } from './objects.ts';

type LinkObject = ObjectDocument<'link'>;

/** How the two ends meet. */
function connectionEnds(link: LinkObject): TwoEnds[] {
  const { type, host, standbyHost, port, localPort, serialPort, line, tls } = link;
  const given = (words: string): { theirs: string; problem: string | null } => ({
    theirs: words || '–',
    problem: words ? null : 'not given',
  });
  const character = `${line.bitRate} bit/s, ${line.dataBits} data bits, parity ${line.parity}, ${line.stopBits} stop ${line.stopBits === 1 ? 'bit' : 'bits'}`;
  const lineEnds: TwoEnds[] =
    line.bitRate > 0 ? [{ what: 'Line', ours: character, theirs: character, problem: null }] : [];
  const tlsEnds: TwoEnds[] = tls.use
    ? [
        {
          what: 'TLS',
          ours: 'shows a certificate, wants one',
          theirs: 'shows a certificate, wants ours',
          problem: null,
        },
      ]
    : [];
  switch (type) {
    case 'tcpClient':
      return [
        { what: 'Connection', ours: 'TCP client, calls', theirs: 'TCP server, listens', problem: null },
        { what: 'IP address', ours: 'any of this machine', ...given(host) },
        ...(standbyHost === '' ? [] : [{ what: 'Its other address', ours: 'tried in turn', ...given(standbyHost) }]),
        { what: 'TCP port', ours: 'any', theirs: String(port), problem: null },
        ...tlsEnds,
        ...lineEnds,
      ];
    case 'tcpServer':
      return [
        { what: 'Connection', ours: 'TCP server, listens', theirs: 'TCP client, calls', problem: null },
        { what: 'IP address', ours: host, theirs: `calls ${host}`, problem: null },
        { what: 'TCP port', ours: String(port), theirs: `calls ${port}`, problem: null },
        ...tlsEnds,
      ];
    case 'udp':
      return [
        { what: 'Connection', ours: 'UDP', theirs: 'UDP', problem: null },
        { what: 'IP address', ours: 'any of this machine', ...given(host) },
        { what: 'UDP port', ours: localPort === 0 ? 'any' : String(localPort), theirs: String(port), problem: null },
      ];
    case 'serial':
      return [
        { what: 'Connection', ours: serialPort || '–', theirs: 'serial', problem: serialPort ? null : 'no port given' },
        ...lineEnds,
      ];
    default:
      return type satisfies never;
  }
}

/** What both ends have to be set to, side by side. */
export function twoEnds({ protocol, settings }: DeviceObject, link: LinkObject): TwoEnds[] {
  const [role, ...rest] = deviceOf(protocol).ends(settings);
  return [role, ...framingEnds(link), ...connectionEnds(link), ...rest];
}

function framingEnds({ protocol, framing }: LinkObject): TwoEnds[] {
  const words = definitionOf(protocol).framings.find(({ code }) => code === framing)?.words;
  return words === undefined ? [] : [{ what: 'Framing', ours: words, theirs: words, problem: null }];
}

/** What we and a centre have to be set to. */
export function outboundEnds(
  { protocol, settings, allowFrom }: OutboundObject,
  link: LinkObject | undefined,
): TwoEnds[] {
  const { words, publishes } = definitionOf(protocol);
  const outbound = wayOut(protocol);
  // Whoever pushes says of its ends itself what there is to say.
  if (link === undefined || publishes !== null) return publishes?.ends(settings) ?? [];
  const role = { what: 'Protocol and role', ours: `${words.name} ${words.them}`, theirs: `${words.name} ${words.us}` };
  const from = allowFrom.join(', ') || 'nowhere';
  return [
    { ...role, problem: null },
    ...framingEnds(link),
    ...connectionEnds(link),
    ...(link.type === 'tcpServer'
      ? [{ what: 'Connects from', ours: `lets in ${from}`, theirs: from, problem: null }]
      : []),
    ...(outbound?.ends(settings) ?? []),
  ];
}

/** What the person at the device has to set, as lines to copy. */
export const settingSheet = (device: DeviceObject, link: LinkObject): string[][] => [
  ['Setting at the device', 'Value'],
  ...twoEnds(device, link).map(({ what, theirs }) => [what, theirs]),
  ['Response time-out expected', `under ${deviceOf(device.protocol).answerWithinMs(device.settings)} ms`],
];
