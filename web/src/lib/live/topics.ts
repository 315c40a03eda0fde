import type {
  DetailState,
  DeviceState,
  EngineState,
  LaneState,
  LinkState,
  OutboundState,
  ProbeResult,
  ProbeState,
  Trail,
} from '@halvix/core/path';
import type { Reading } from '@halvix/core/point';

/** What a page wants to hear of: only what is on screen. */
export interface Topics {
  points: number[];
  /** Points that a dialog shows besides the page. */
  also: number[];
  journal: boolean;
  trail: number | null;
  command: string | null;
  /** A try or a survey that somebody waits for. */
  probe: string | null;
  /** A link whose lane somebody watches. */
  lane: string | null;
  /** A device whose session somebody looks at. */
  detail: string | null;
}

export const NO_TOPICS: Topics = {
  points: [],
  also: [],
  journal: false,
  trail: null,
  command: null,
  probe: null,
  lane: null,
  detail: null,
};
/** Points that one page watches at most, and all pages of a browser together. */
export const MAX_POINTS = 400;
export const MAX_ASKED_POINTS = 4000;
/** Of everything else, all pages together. */
export const MAX_ASKED = 24;

/** What all pages of a browser together want to hear of. */
export interface Asked {
  points: number[];
  journal: boolean;
  trails: number[];
  commands: string[];
  probes: string[];
  lanes: string[];
  details: string[];
}

export interface Hops {
  links: Record<string, LinkState>;
  devices: Record<string, DeviceState>;
  outbounds: Record<string, OutboundState>;
  /** Engines that stand by. */
  standbys?: string[];
  engines: Record<string, EngineState & { updated: number }>;
}

export interface JournalLine {
  id: number;
  time: number;
  subject: string;
  tone: 'plain' | 'lost' | 'control' | 'warning';
  words: string;
}

export interface CommandView {
  id: string;
  pointId: number;
  device: string;
  /** Of the point. */
  address: string;
  operation: string;
  /** What an analog output is set to, in counts. */
  counts: number | null;
  mode: string;
  onMs: number;
  offMs: number;
  count: number;
  requestedBy: string;
  state: string;
  status: number | null;
  words: string | null;
  requested: number;
  expires: number;
  sent: number | null;
  selected: number | null;
  operated: number | null;
  confirmed: number | null;
  ended: number | null;
}

/** One live message; what is missing has not changed. */
export interface LiveMessage {
  /** The server's clock. */
  now: number;
  /** Why what is seen grows old; null: nothing. */
  trouble?: { what: 'database' | 'writing'; since: number; words: string } | null;
  points?: Record<number, Reading>;
  hops?: Hops;
  journal?: JournalLine[];
  trails?: Record<number, Trail | null>;
  commands?: Record<string, CommandView | null>;
  probes?: Record<string, ProbeView | null>;
  lanes?: Record<string, LaneState | null>;
  details?: Record<string, DetailState | null>;
  /** The version of the draft. */
  draft?: number;
  /** The revision that runs. */
  revision?: number | null;
}

export interface ProbeView {
  id: string;
  state: ProbeState;
  result: ProbeResult;
}

export function askedOf(pages: readonly Topics[]): Asked {
  const some = <Item>(of: (page: Topics) => Item | null): Item[] =>
    [...new Set(pages.flatMap((page) => of(page) ?? []))].slice(0, MAX_ASKED) as Item[];
  const points = pages.flatMap(({ also, points }) => [...new Set([...also, ...points])].slice(0, MAX_POINTS));
  return {
    points: [...new Set(points)].sort((a, b) => a - b).slice(0, MAX_ASKED_POINTS),
    journal: pages.some(({ journal }) => journal),
    trails: some(({ trail }) => trail),
    commands: some(({ command }) => command),
    probes: some(({ probe }) => probe),
    lanes: some(({ lane }) => lane),
    details: some(({ detail }) => detail),
  };
}

/** Ascending numbers as `1-80,95`: neighbours in a list mostly have neighbouring numbers. */
export function rangesOf(numbers: readonly number[]): string {
  const ranges: [number, number][] = [];
  for (const number of numbers) {
    const last = ranges.at(-1);
    if (last && number === last[1] + 1) last[1] = number;
    else ranges.push([number, number]);
  }
  return ranges.map(([from, to]) => (from === to ? `${from}` : `${from}-${to}`)).join(',');
}

/** The numbers of ranges, at most so many; what is not well-formed is left out. */
export function numbersOf(ranges: string, limit: number): number[] {
  const numbers: number[] = [];
  for (const text of ranges.split(',')) {
    const [, from, to] = /^(\d{1,9})(?:-(\d{1,9}))?$/.exec(text) ?? [];
    if (from === undefined) continue;
    for (let number = Number(from); number <= Number(to ?? from) && numbers.length < limit; number++)
      numbers.push(number);
  }
  return numbers;
}

export function queryOf({ points, journal, trails, commands, probes, lanes, details }: Asked): string {
  const query = new URLSearchParams();
  const put = (name: string, text: string): void => {
    if (text !== '') query.set(name, text);
  };
  put('points', rangesOf(points));
  put('journal', journal ? '1' : '');
  put('trail', trails.join(','));
  put('command', commands.join(','));
  put('probe', probes.join(','));
  put('lane', lanes.join(','));
  put('detail', details.join(','));
  return query.toString();
}
