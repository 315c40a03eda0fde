export { Lane, type LaneCommand, type LaneEffect, type LaneNumbers, type Turn } from './lane.ts';
export { LINK_TYPES, LINK_TYPE_WORDS, type LinkType } from './linktype.ts';
export { Priority, type Framing, type Party, type Wish } from './party.ts';
export { NO_LINE_TIMING, octetMs, type LineTiming } from './timing.ts';
