import { toHex } from '@halvix/core/bytes';
import { describeFragment, positionsInFrames } from '@halvix/core/protocols/dnp3';
import type { Trail } from '@halvix/core/path';
import type { LivePoint } from './exchange.ts';
import type { OutboundRunner } from './outbound.ts';

/** What happened to a point's latest reading at each hop, as one document; null before its first reading. */
export function trailOf(point: LivePoint, outbounds: Iterable<OutboundRunner>): Trail | null {
  const { reading, origin } = point;
  const committed = origin?.carrier.committed;
  if (reading === null) return null;
  return {
    pointId: point.id,
    reading,
    frames: origin && framesOf(origin),
    message: origin && describeFragment(origin.carrier.received.fragment.octets),
    object: origin && `g${origin.measured.group}v${origin.measured.variation} i${origin.measured.index}`,
    // A text carries none.
    flags: origin && point.config.kind !== 'text' ? origin.measured.flags : null,
    committed: committed?.at ?? null,
    batch: committed?.batch ?? null,
    outbounds: [...outbounds].flatMap((outbound) =>
      outbound.deliveriesOf(point).map((delivery) => ({ code: outbound.config.code, ...delivery })),
    ),
  };
}

/** The link frames that carry the point's own octets. */
function framesOf({ measured, carrier }: NonNullable<LivePoint['origin']>): NonNullable<Trail['frames']> {
  const marked = new Map<number, number[]>();
  for (const { frame, position } of positionsInFrames(measured.at, measured.octets))
    marked.set(frame, [...(marked.get(frame) ?? []), position]);
  return [...marked].map(([frame, positions]) => ({
    octets: toHex(carrier.received.frames[frame]),
    marked: positions,
    bit: measured.bit,
  }));
}
