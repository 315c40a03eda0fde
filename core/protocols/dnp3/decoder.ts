import { concat } from '../../bytes/index.ts';
import type { Instant } from '../../session/index.ts';
import type { Decoder, DecoderSide, Message, Speaker } from '../decoder.ts';
import { describeFragment } from './describe.ts';
import { decodeFragment } from './wire/application.ts';
import { LinkParser, type LinkEvent } from './wire/link.ts';
import { Reassembler } from './wire/transport.ts';

/** Beyond it a fragment is dropped; devices have at most 2048 (IEEE 1815), some more (common practice). */
const MOST_FRAGMENT = 65_535;
/** Conversations at a time, by both addresses. */
const MOST_PAIRS = 1000;

/** Link functions in words (IEEE 1815, table 9-1 and 9-2). */
const PRIMARY: Record<number, string> = {
  0: 'reset link states',
  2: 'test link states',
  3: 'confirmed user data',
  4: 'user data',
  9: 'request link status',
};
const SECONDARY: Record<number, string> = {
  0: 'acknowledgement',
  1: 'not acknowledged',
  11: 'link status',
  15: 'not supported',
};

/** Link frames, and fragments as soon as they are whole. */
class Dnp3Decoder implements Decoder {
  private readonly parsers: Record<Speaker, LinkParser> = { asking: new LinkParser(), asked: new LinkParser() };
  private readonly pairs = new Map<string, Reassembler>();

  push(octets: Uint8Array, side: Speaker, at: Instant): Message[] {
    return this.parsers[side].push(octets).flatMap((event) => this.messageOf(event, side, at) ?? []);
  }

  private messageOf(event: LinkEvent, side: Speaker, at: Instant): Message | null {
    const odd = (words: string): Message => ({
      ...{ side, at, words, isOdd: true, octets: new Uint8Array(0), parts: [] },
    });
    if (event.type === 'noise') return odd(`${event.octets} octets that belong to no frame`);
    if (event.type !== 'frame')
      return odd(`wrong checksum of a ${event.type === 'headerChecksum' ? 'header' : 'block'}`);
    const { source, destination, functionCode, primary, data } = event.frame;
    const way = `${source} → ${destination}`;
    const name = (primary ? PRIMARY : SECONDARY)[functionCode] ?? `link function ${functionCode}`;
    const plain = { side, at, isOdd: false, octets: event.octets, parts: [] };
    if (data.length === 0) return { ...plain, words: `${way}: ${name}` };
    const { done, problem } = this.reassembler(way).push(data, event.octets);
    if (done === null)
      return problem === null
        ? null
        : { ...plain, isOdd: true, words: `${way}: ${name}, its segment does not fit (${problem})` };
    const words = `${way}: ${describeFragment(done.fragment)}`;
    const isOdd = !decodeFragment(done.fragment).ok || words.includes('not understood');
    return { ...plain, isOdd, words, octets: concat(done.frames) };
  }

  private reassembler(way: string): Reassembler {
    const known = this.pairs.get(way);
    if (known !== undefined) return known;
    if (this.pairs.size >= MOST_PAIRS) this.pairs.clear();
    const fresh = new Reassembler(MOST_FRAGMENT);
    this.pairs.set(way, fresh);
    return fresh;
  }
}

export const decoder: DecoderSide = { make: () => new Dnp3Decoder() };
