import { fromHex, sameBytes } from '../../bytes/index.ts';
import type { Recogniser } from '../client.ts';
import { decodeTpdu } from './wire/cotp.ts';
import { TpktReader } from './wire/tpkt.ts';

/**
 * Which of several ends behind one port a caller has called, by the transport selector of its first message (ISO 8073,
 * 13.3.4 a). Those that share a selector are all named, as are all when it is none of theirs: one of them says no in words.
 */
export class CalledEnd implements Recogniser {
  private readonly reader = new TpktReader();
  private named: string[] | null;

  constructor(private readonly ends: readonly { code: string; settings: { transportSelector: string } }[]) {
    this.named = ends.length === 1 ? [ends[0].code] : null;
  }

  push(bytes: Uint8Array): string[] {
    if (this.named === null) {
      const [first] = this.reader.push(bytes);
      if (first !== undefined) this.named = this.calledBy(first);
      else if (this.reader.problem !== null) this.named = this.ends.map(({ code }) => code);
    }
    return this.named ?? [];
  }

  private calledBy(first: Uint8Array): string[] {
    const tpdu = decodeTpdu(first);
    const called =
      tpdu.ok && tpdu.value.type === 'connectRequest' && tpdu.value.called !== undefined ? tpdu.value.called : null;
    const fitting = this.ends.filter(
      ({ settings: { transportSelector } }) =>
        called === null || transportSelector === '' || sameBytes(called, fromHex(transportSelector)),
    );
    return (fitting.length > 0 ? fitting : this.ends).map(({ code }) => code);
  }
}
