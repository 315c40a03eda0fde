import type { Instant } from '../../session/index.ts';
import type { ConversationTerms } from '../conversation.ts';
import type { Association, AssociationEffect } from './association.ts';
import { AGREEMENT } from './settings.ts';
import { decodePdu, encodePdu, type Negotiated, type Pdu } from './wire/pdu.ts';

/** What an end of MMS needs of its association. */
export type Speaking = Pick<
  Association,
  | 'state'
  | 'deadline'
  | 'take'
  | 'start'
  | 'receive'
  | 'wake'
  | 'accept'
  | 'refuse'
  | 'conclude'
  | 'abort'
  | 'send'
  | 'sendEncoded'
>;

/**
 * The association of an end that speaks within another one's: the other end of ours has made it, and hands on what is not
 * its own. Messages come and go whole, without the layers below; each `receive` is one.
 */
export class Within implements Speaking {
  state: Association['state'] = 'idle';
  readonly deadline = null;
  private effects: AssociationEffect[] = [];

  constructor(private readonly terms: ConversationTerms) {}

  private get agreement(): Negotiated {
    const { octets, requests } = this.terms;
    return { ...AGREEMENT, size: octets, calling: requests, called: requests };
  }

  take(): AssociationEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  start(_now: Instant): void {
    this.state = 'open';
    this.effects.push({ type: 'open', agreement: this.agreement });
  }

  receive(octets: Uint8Array, _now: Instant): void {
    if (this.state !== 'open') return;
    const pdu = decodePdu(octets);
    this.effects.push(
      pdu.ok ? { type: 'pdu', pdu: pdu.value, octets } : { type: 'malformed', words: pdu.problem, octets },
    );
  }

  wake(): void {
    // Whoever made the association sees to its time.
  }
  accept(): void {
    // Nobody asks: it stands.
  }
  refuse(_diagnostic: number, words: string): void {
    this.abort(words);
  }
  conclude(): void {
    this.abort('ended');
  }

  abort(words: string): void {
    if (this.state === 'closed') return;
    this.state = 'closed';
    this.effects.push({ type: 'closed', words, byUs: true });
  }

  send(pdu: Pdu): void {
    this.sendEncoded(encodePdu(pdu));
  }
  sendEncoded(octets: Uint8Array): void {
    if (this.state === 'open') this.effects.push({ type: 'send', octets });
  }
}

/** Whether a message is for an end of ours that asks (null: for either, it says nothing of it). */
export function isForClient(pdu: Pdu): boolean | null {
  switch (pdu.type) {
    case 'response':
    case 'error':
    case 'cancelled':
    case 'cancelError':
      return true;
    case 'request':
    case 'unknownRequest':
    case 'cancel':
      return false;
    case 'reject':
      // 1: of a request, which a client has sent; 2 and 3: of what a server has (ISO 9506-2, 7.4.4).
      return pdu.kind === 1 ? true : pdu.kind === 2 || pdu.kind === 3 ? false : null;
    default:
      return null;
  }
}
