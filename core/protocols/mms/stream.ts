import type { Framing } from '../../line/index.ts';

/** An association has its connection for itself: its own layers find the messages. */
export const stream: Framing<Uint8Array> = {
  gapMs: 0,
  reset: () => {},
  push: (octets) => [octets],
  isFrame: () => true,
};
