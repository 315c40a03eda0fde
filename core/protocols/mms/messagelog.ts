import type { Instant } from '../../session/index.ts';
import type { DetailTable } from '../client.ts';
import { dataWords, pduWords } from './describe.ts';
import type { AccessResult } from './wire/data.ts';
import { nameWords } from './wire/names.ts';
import { decodePdu, type Pdu } from './wire/pdu.ts';
import type { Variables } from './wire/services.ts';

/* The last messages of an association, for those who look: they are only put into words then. */

const MOST_MESSAGES = 60;
/** Of all that are kept. */
const MOST_OCTETS = 100_000;
/** Of one message, in its own rows. */
const MOST_PARTS = 60;

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
        const pdu = decodePdu(octets);
        const words = pdu.ok ? pduWords(pdu.value) : `not understood: ${pdu.problem}`;
        return {
          key: `message ${number}`,
          cells: [String(number), from, words.slice(0, 300), String(octets.length)],
          time: at,
          odd: pdu.ok ? [] : [2],
          more: { columns: ['Part', 'Value'], rows: pdu.ok ? partsOf(pdu.value) : [] },
        };
      }),
    };
  }
}

/** What a message carries, a row each: names with their values, as far as it says them. */
function partsOf(pdu: Pdu): string[][] {
  const rows = (of: Variables | null, values: readonly AccessResult[]): string[][] =>
    values.slice(0, MOST_PARTS).map((value, at) => {
      const name = of?.names?.[at];
      return [name ? nameWords(name.name) : `${of?.list ? `${nameWords(of.list)} ` : ''}${at + 1}`, dataWords(value)];
    });
  if (pdu.type === 'report') return rows(pdu.variables, pdu.results);
  if (pdu.type === 'response' && pdu.service === 'read') return rows(null, pdu.response.results);
  if (pdu.type === 'request' && pdu.service === 'write') return rows(pdu.request.variables, pdu.request.values);
  if (pdu.type === 'request' && pdu.service === 'read')
    return (pdu.request.variables.names ?? []).slice(0, MOST_PARTS).map(({ name }) => [nameWords(name), '']);
  if (pdu.type === 'request' && pdu.service === 'defineList')
    return pdu.request.names.slice(0, MOST_PARTS).map(({ name }) => [nameWords(name), '']);
  if (pdu.type === 'response' && pdu.service === 'nameList')
    return pdu.response.names.slice(0, MOST_PARTS).map((name, at) => [String(at + 1), name]);
  return [];
}
