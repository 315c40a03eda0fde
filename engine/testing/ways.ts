import type { LinkConfig } from '@halvix/core/config';
import type { Call, LinkEvents } from '@halvix/wire';

/*
 * Ways that are made up, for links in virtual time: what a link opens, and who comes to its door. In a test:
 *
 *   vi.mock('./transport.ts', async () => (await import('../testing/ways.ts')).transports);
 *   vi.mock('@halvix/wire', async (original) => ({ ...(await original<object>()), ...(await import('../testing/ways.ts')).doors }));
 */

type State = { state: string; since: number; tries: number; nextTry: null; problem: string | null };
/** The one way of a link: connected when the test says so. */
export class Way {
  did: string[] = [];
  sent: Uint8Array[] = [];
  where = 'somewhere';
  state: State = { state: 'waiting', since: 0, tries: 0, nextTry: null, problem: 'no connection' };
  constructor(readonly events: LinkEvents) {}
  open = (): unknown => this.did.push('open');
  close = (): unknown => this.did.push('close');
  call = (): unknown => this.did.push('call');
  useful = (): unknown => this.did.push('useful');
  drop = (words: string): unknown => this.did.push(`drop ${words}`);
  rest = (until: number | null): void => {
    this.did.push(`rest ${until}`);
    this.state = { ...this.state, state: 'resting' };
  };
  key = (on: boolean): unknown => this.did.push(`key ${on}`);
  send = (octets: Uint8Array): unknown => this.sent.push(octets);
  up(): void {
    this.state = { ...this.state, state: 'connected', problem: null };
    this.events.up();
  }
  down(): void {
    this.state = { ...this.state, state: 'waiting', problem: 'lost' };
    this.events.down();
  }
}
/** The door that a link opens for calls. */
export class Door {
  did: string[] = [];
  problem: string | null = null;
  constructor(
    readonly options: { allows: (address: string) => boolean; port: number },
    readonly events: {
      came: (call: Call) => void;
      data: (call: Call, octets: Uint8Array) => void;
      ended: (call: Call) => void;
      changed: () => void;
      refused: (words: string) => void;
    },
  ) {
    made.door = this;
  }
  open = (): unknown => this.did.push('open');
  close = async (): Promise<void> => void this.did.push('close');
}

/** What was made last. */
const made: { way: Way | null; door: Door | null } = { way: null, door: null };
export function theWay(): Way {
  if (made.way === null) throw new Error('no way was made');
  return made.way;
}
export function theDoor(): Door {
  if (made.door === null) throw new Error('no door was made');
  return made.door;
}

export const transports = {
  tlsOf: (): object => ({}),
  makeTransport: (config: LinkConfig, events: LinkEvents): Way | null =>
    config.type === 'tcpServer' ? null : (made.way = new Way(events)),
};
export const doors = { CallServer: Door };
