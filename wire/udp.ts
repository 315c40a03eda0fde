import { createSocket } from 'node:dgram';
import { isIP } from 'node:net';
import {
  Reconnecting,
  type Attempt,
  type AttemptEvents,
  type LinkEvents,
  type ReconnectOptions,
} from './reconnecting.ts';
import { lookupWithin } from './reach.ts';
import { inWords } from './words.ts';

export interface UdpOptions extends ReconnectOptions {
  host: string;
  port: number;
  /** Our own port; 0: any. */
  localPort: number;
}

/** Datagrams to and from one peer. What comes from anybody else is passed over. */
export class UdpLink extends Reconnecting {
  constructor(options: UdpOptions, events: LinkEvents) {
    super(
      { ...options, whole: true },
      (attempt) => dial(options, attempt),
      events,
      `UDP ${options.host}:${options.port}`,
    );
  }
}

function dial({ host, port, localPort }: UdpOptions, events: AttemptEvents): Attempt {
  const family = isIP(host) === 6 ? 6 : 4;
  const socket = createSocket(`udp${family}`);
  let problem: string | null = null;
  let closed = false;
  const close = (): void => {
    if (closed) return;
    closed = true;
    socket.close();
  };
  const fail = (error: Error): void => {
    problem ??= inWords(error);
    close();
  };
  socket.on('error', (error) => {
    // A peer that is not there yet is no reason to give the port up.
    if ('code' in error && error.code === 'ECONNREFUSED') return;
    fail(error);
  });
  socket.on('close', () => events.ended(problem));
  socket.on('message', (bytes) => events.data(bytes));
  socket.bind(localPort, () => {
    if (closed) return;
    lookupWithin(host, { family }, (error, address) => {
      if (error) fail(error);
      else if (!closed) socket.connect(port, String(address), () => !closed && events.up());
    });
  });
  return {
    send: (octets) => {
      if (!closed) socket.send(octets, () => {});
    },
    unsent: () => 0,
    destroy: close,
  };
}
