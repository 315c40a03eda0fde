import { connect, type Socket } from 'node:net';
import {
  Reconnecting,
  type Attempt,
  type AttemptEvents,
  type LinkEvents,
  type ReconnectOptions,
} from './reconnecting.ts';
import { assertWithin, lookupWithin } from './reach.ts';
import { inWords } from './words.ts';
import { connectTls, type TlsFiles } from './tls.ts';
import { sendTogether } from './together.ts';

export interface TcpClientOptions extends ReconnectOptions {
  host: string;
  /** Of a redundant peer: whichever did not answer, or went away, is tried after the other. Absent, empty: it has none. */
  standbyHost?: string;
  port: number;
  /** Both ends show a certificate. */
  tls?: TlsFiles;
}

const OPTIONS = { noDelay: true, keepAlive: true, keepAliveInitialDelay: 30_000, lookup: lookupWithin };

/** A TCP connection, with TLS where that is asked for. */
export class TcpClient extends Reconnecting {
  constructor(options: TcpClientOptions, events: LinkEvents) {
    const hosts = [options.host, options.standbyHost ?? ''].filter((host) => host !== '');
    let tries = 0;
    super(
      options,
      (attempt) => dial({ ...options, host: hosts[tries++ % hosts.length] }, attempt),
      events,
      `${options.host}:${options.port}`,
    );
  }
}

function dial({ host, port, tls, standbyHost }: TcpClientOptions, events: AttemptEvents): Attempt {
  const where = standbyHost ? `${host}:${port}` : undefined;
  let socket: Socket;
  try {
    assertWithin(host);
    socket = tls ? connectTls({ host, port, ...OPTIONS }, tls) : connect({ host, port, ...OPTIONS });
  } catch (error) {
    setImmediate(() => events.ended(error instanceof Error ? inWords(error) : String(error)));
    return { send: () => {}, unsent: () => 0, destroy: () => {}, where };
  }
  let problem: string | null = null;
  socket.on(tls ? 'secureConnect' : 'connect', () => events.up());
  socket.on('data', (bytes) => events.data(bytes));
  socket.on('error', (error) => (problem ??= inWords(error)));
  socket.on('close', () => events.ended(problem));
  return {
    send: (octets) => sendTogether(socket, octets),
    unsent: () => socket.writableLength,
    destroy: () => socket.destroy(),
    hold: (on) => void (on ? socket.pause() : socket.resume()),
    where,
  };
}
