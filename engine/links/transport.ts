import { type LinkConfig } from '@halvix/core/config';
import { SerialLink, TcpClient, UdpLink, type LinkEvents, type Reconnecting, type TlsFiles } from '@halvix/wire';

/** What a link's settings are to the transports; null: no TLS. */
export const tlsOf = ({ tls }: Pick<LinkConfig, 'tls'>): { tls?: TlsFiles } => (tls.use ? { tls } : {});

/** The connection that a link stands for; null where devices call us instead. */
export function makeTransport(link: LinkConfig, events: LinkEvents): Reconnecting | null {
  const {
    type,
    host,
    standbyHost,
    port,
    localPort,
    serialPort,
    line,
    connectTimeoutMs,
    reconnectFirstMs,
    reconnectMaxMs,
  } = link;
  // A connection that a device takes and then says nothing on is no better than none.
  const pauses = { connectTimeoutMs, reconnectFirstMs, reconnectMaxMs, mustProve: true, link: link.code };
  switch (type) {
    case 'tcpClient':
      return new TcpClient({ ...pauses, host, standbyHost, port, ...tlsOf(link) }, events);
    case 'udp':
      return new UdpLink({ ...pauses, host, port, localPort }, events);
    case 'serial': {
      const { bitRate, dataBits, parity, stopBits, keyWithRts } = line;
      return new SerialLink({ ...pauses, path: serialPort, bitRate, dataBits, parity, stopBits, keyWithRts }, events);
    }
    case 'tcpServer':
      return null;
    default:
      return type satisfies never;
  }
}
