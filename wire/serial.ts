import { SerialPort } from 'serialport';
import {
  Reconnecting,
  type Attempt,
  type AttemptEvents,
  type LinkEvents,
  type ReconnectOptions,
} from './reconnecting.ts';
import { inWords } from './words.ts';

export interface SerialOptions extends ReconnectOptions {
  path: string;
  bitRate: number;
  dataBits: 7 | 8;
  parity: 'none' | 'even' | 'odd';
  stopBits: 1 | 2;
  /** RTS keys a radio's transmitter; RS-485 drivers switch their direction by themselves. */
  keyWithRts: boolean;
}

/** A serial port of this machine. One that goes away is opened again when it is back. */
export class SerialLink extends Reconnecting {
  constructor(options: SerialOptions, events: LinkEvents) {
    super(options, (attempt) => dial(options, attempt), events, options.path);
  }
}

function dial(options: SerialOptions, events: AttemptEvents): Attempt {
  const { path, bitRate, dataBits, parity, stopBits, keyWithRts } = options;
  let problem: string | null = null;
  let ended = false;
  const end = (): void => {
    if (ended) return;
    ended = true;
    events.ended(problem);
  };
  const port = new SerialPort({ path, baudRate: bitRate, dataBits, parity, stopBits, lock: true, autoOpen: false });
  port.on('data', (bytes: Buffer) => events.data(bytes));
  port.on('error', (error) => (problem ??= inWords(error)));
  port.on('close', end);
  port.open((error) => {
    if (error) {
      problem = /no such file/i.test(error.message) ? 'there is no such port' : error.message;
      end();
      return;
    }
    if (ended) {
      port.close();
      return;
    }
    if (keyWithRts) port.set({ rts: false }, () => {});
    events.up();
  });
  return {
    send: (octets) => void port.write(octets),
    unsent: () => port.writableLength,
    destroy: () => {
      if (port.isOpen) port.close(() => {});
      else end();
    },
    ...(keyWithRts ? { key: (on: boolean) => port.set({ rts: on }, () => {}) } : {}),
  };
}
