import type { Framing } from '../../../line/index.ts';
import { LinkParser, type LinkEvent } from './link.ts';

/** Link frames on a line that devices share. */
export function linkFraming(): Framing<LinkEvent> {
  const parser = new LinkParser();
  return {
    gapMs: 0,
    reset: () => parser.reset(),
    push: (octets) => parser.push(octets),
    isFrame: ({ type }) => type === 'frame',
  };
}
