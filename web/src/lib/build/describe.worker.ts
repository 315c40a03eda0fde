import {
  type Described,
  type DescribedDevice,
  type DescribedPoint,
  type ProtocolCode,
  deviceOf,
} from '@halvix/core/protocols';

/**
 * Reads a file that describes devices beside the page, piece by piece: one of any size leaves the screen alive. Points stay
 * here until somebody wants to see or take them: there may be hundreds of thousands.
 */
export type DescribeJob =
  | { type: 'read'; protocol: ProtocolCode; file: File }
  /** Points of these devices, by their places. */
  | { type: 'points'; id: number; devices: readonly number[]; which: Which };

/** What is taken of a device: what its reports carry and what is operated, or all. */
export type Which = 'reported' | 'all';

export interface DeviceSummary extends Omit<DescribedDevice, 'points'> {
  counts: Record<Which, number>;
}
export interface Summary extends Omit<Described, 'devices'> {
  devices: readonly DeviceSummary[];
}

export type DescribeNews =
  | { type: 'progress'; octets: number }
  | { type: 'done'; summary: Summary }
  | { type: 'points'; id: number; points: DescribedPoint[][] }
  | { type: 'failed'; words: string };

const say = (news: DescribeNews): void => self.postMessage(news);
/** How often the page is told how far it is. */
const EVERY_OCTETS = 1 << 20;

let devices: readonly DescribedDevice[] = [];

/** Where no report carries anything, all is meant. */
function chosen({ points }: DescribedDevice, which: Which): DescribedPoint[] {
  const reported = which === 'all' ? [] : points.filter(({ isReported }) => isReported);
  return reported.length > 0 ? reported : [...points];
}

self.onmessage = ({ data }: MessageEvent<DescribeJob>): void => {
  if (data.type === 'points')
    say({ type: 'points', id: data.id, points: data.devices.map((at) => chosen(devices[at], data.which)) });
  else
    read(data.protocol, data.file).catch((error: unknown) =>
      say({ type: 'failed', words: error instanceof Error ? error.message : 'it cannot be read' }),
    );
};

async function read(protocol: ProtocolCode, file: File): Promise<void> {
  const reader = await deviceOf(protocol).descriptions?.reader();
  if (!reader) throw new Error('there are no such files for this protocol');
  const stream = file.stream().getReader();
  const text = new TextDecoder();
  let [octets, told] = [0, 0];
  for (;;) {
    const { done, value } = await stream.read();
    if (done) break;
    octets += value.length;
    reader.push(text.decode(value, { stream: true }));
    if (octets - told < EVERY_OCTETS) continue;
    told = octets;
    say({ type: 'progress', octets });
  }
  reader.push(text.decode());
  const described = reader.end();
  devices = described.devices;
  const summaries = devices.map(({ points: _points, ...device }, at) => ({
    ...device,
    counts: { reported: chosen(devices[at], 'reported').length, all: devices[at].points.length },
  }));
  say({ type: 'done', summary: { ...described, devices: summaries } });
}
