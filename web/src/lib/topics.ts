import type {
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
}

export const NO_TOPICS: Topics = {
  points: [],
  also: [],
  journal: false,
  trail: null,
  command: null,
  probe: null,
  lane: null,
};
export const MAX_POINTS = 400;

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
  index: number;
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
  trail?: Trail | null;
  command?: CommandView | null;
  probe?: ProbeView | null;
  lane?: LaneState | null;
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

export function topicsToQuery(topics: Topics): string {
  const query = new URLSearchParams();
  const points = [...new Set([...topics.also, ...topics.points])].slice(0, MAX_POINTS);
  if (points.length > 0) query.set('points', points.join(','));
  if (topics.journal) query.set('journal', '1');
  if (topics.trail !== null) query.set('trail', String(topics.trail));
  if (topics.command !== null) query.set('command', topics.command);
  if (topics.probe !== null) query.set('probe', topics.probe);
  if (topics.lane !== null) query.set('lane', topics.lane);
  return query.toString();
}
