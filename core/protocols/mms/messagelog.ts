import type { Instant } from '../../session/index.ts';
import type { DetailTable } from '../client.ts';
import { messageOf } from './decoder.ts';

/* The last messages of an association, for those who look: they are only put into words then. */

const MOST_MESSAGES = 60;
/** Of all that are kept. */
const MOST_OCTETS = 100_000;

/** Takes messages, ours and theirs. */
export interface Keeping {
  add: (ours: boolean, octets: Uint8Array, at: Instant) => void;
}

export class MessageLog implements Keeping {
  private kept: { from: string; octets: Uint8Array; at: Instant; number: number }[] = [];
  private octets = 0;
  private count = 0;

  /** They are not copied: nobody changes what was sent or has come. */
  add(ours: boolean, octets: Uint8Array, at: Instant, them = 'them'): void {
    this.kept.push({ from: ours ? 'us' : them, octets, at, number: ++this.count });
    this.octets += octets.length;
    while (this.kept.length > MOST_MESSAGES || (this.octets > MOST_OCTETS && this.kept.length > 1))
      this.octets -= this.kept.shift()?.octets.length ?? 0;
  }

  /** The same for one of several peers. */
  of(them: string): Keeping {
    return { add: (ours, octets, at) => this.add(ours, octets, at, them) };
  }

  /** The newest first. */
  get table(): DetailTable {
    return {
      ...{ key: 'messages', title: 'Messages on the association' },
      columns: ['Number', 'From', 'Message', 'Octets'],
      rows: [...this.kept].reverse().map(({ from, octets, at, number }) => {
        const { words, isOdd, parts } = messageOf(octets);
        return {
          key: `message ${number}`,
          cells: [String(number), from, words.slice(0, 300), String(octets.length)],
          time: at,
          odd: isOdd ? [2] : [],
          more: { columns: ['Part', 'Value'], rows: parts },
        };
      }),
    };
  }
}
