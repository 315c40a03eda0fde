/**
 * The ways to a device or a centre:
 *
 * - tcpClient: we connect to it, or to a terminal server with a serial line behind it.
 * - tcpServer: it calls us and is recognised by its address.
 * - udp: datagrams, one peer.
 * - serial: a port of this machine.
 */
export const LINK_TYPES = ['tcpClient', 'tcpServer', 'udp', 'serial'] as const;
export type LinkType = (typeof LINK_TYPES)[number];
export const LINK_TYPE_WORDS: Record<LinkType, string> = {
  tcpClient: 'a TCP connection that we make',
  tcpServer: 'TCP connections that devices make',
  udp: 'UDP',
  serial: 'a serial port',
};
