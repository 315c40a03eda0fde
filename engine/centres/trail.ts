import { toHex } from '@halvix/core/bytes';
import type { Trail } from '@halvix/core/path';
import type { LivePoint } from '../board/exchange.ts';
import type { OutboundRunner } from './outbound.ts';

/** What happened to a point's latest reading at each hop, as one document; null before its first reading. */
export function trailOf(point: LivePoint, outbounds: Iterable<OutboundRunner>): Trail | null {
  const { reading, origin } = point;
  if (reading === null) return null;
  return {
    pointId: point.id,
    reading,
    ...howItCame(origin),
    committed: origin?.carrier.committed?.at ?? null,
    batch: origin?.carrier.committed?.batch ?? null,
    outbounds: [...outbounds].flatMap((outbound) =>
      outbound.deliveriesOf(point).map((delivery) => ({ code: outbound.config.code, ...delivery })),
    ),
  };
}

function howItCame(origin: LivePoint['origin']): Pick<Trail, 'frames' | 'message' | 'object' | 'said'> {
  if (origin === null) return { frames: null, message: null, object: null, said: null };
  const { measured, carrier } = origin;
  const { carried } = carrier;
  return {
    frames: carried.frames(measured).map(({ octets, quiet = [], lines = [], ...frame }) => ({
      ...{ octets: toHex(octets), ...frame },
      ...{ quiet: [...quiet], lines: [...lines] },
    })),
    message: carried.words(),
    object: carried.form(measured),
    said: carried.said(measured),
  };
}
