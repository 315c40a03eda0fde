import type { PointKind } from '../../point/index.ts';

/** A value as it is told to a destination. */
export interface ToldValue {
  /** Ascending over restarts, so that a receiver knows what it has already. */
  number: number;
  /** The address at which the point is offered, as text. */
  address: string;
  kind: PointKind;
  value: number;
  text: string | null;
  /** Bits of `Quality`. */
  quality: number;
  /** Milliseconds since 1970 UTC. */
  time: number;
  /** The time is of a clock that is not set. */
  unsynchronised: boolean;
  /** What the point is called here, and its unit; empty once it is in no list any more. */
  name: string;
  unit: string;
}

/** What goes to a destination in one piece, and is acknowledged in one. */
export interface Packet {
  /** Of its first value: the same packet has the same number, however often it is tried. */
  number: number;
  values: readonly ToldValue[];
  /** So many values before it were dropped, because too many waited. */
  dropped: number;
}

/** What is recorded for a destination, how it becomes packets, and how much waits for them. */
export interface PublishingTerms {
  /** Changes and events are recorded. */
  onChange: boolean;
  /** All points are recorded at each whole period since 1970 UTC, milliseconds; 0: never. */
  everyMs: number;
  /** Address of the point whose turning on has all points recorded; empty: none. */
  trigger: string;
  /** The trigger is operated off again. */
  setsBack: boolean;
  /** Values in a packet. */
  mostValues: number;
  /** A packet goes out so long after its first value, milliseconds; 0: at once. */
  afterMs: number;
  /** Values that wait. */
  mostWaiting: number;
  /** What is given up, and counted, when more would wait. */
  whenFull: 'oldest' | 'new';
  /** What is older is given up, milliseconds; 0: never. */
  mostAgeMs: number;
}

/** Octets for one place at the destination: a topic, a file, a path. */
export interface Message {
  /** Empty: there is only one place. */
  to: string;
  octets: Uint8Array;
}

/** What packets of a protocol are. */
export interface Packing<Settings, Target> {
  terms: (settings: Settings) => PublishingTerms;
  /** A packet as messages, in their order: the same for the same packet. */
  messages: (packet: Packet, settings: Settings) => readonly Message[];
  /** How a value is carried, in a word or two. */
  form: (point: { kind: PointKind; at: Target }) => string;
}

/** How a protocol publishes where a carrier takes its packets: `carrier` is the name of one in `engine/carriers`. */
export interface Carried<Settings, Target> extends Packing<Settings, Target> {
  carrier: 'file';
  /** Where it goes, in the carrier's terms. */
  destination: (settings: Settings) => string;
}
