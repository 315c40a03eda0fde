import type { DraftPoint } from '../config/index.ts';
import { newPoint, pointField } from '../pointlist/index.ts';
import { type GenericProfile, DEVICE_PROTOCOLS, type ProtocolCode, deviceOf } from '../protocols/index.ts';
import { profileSchema, type Profile } from './profile.ts';

function pointOf(protocol: ProtocolCode, { kind, number, name, fields }: GenericProfile['points'][number]): DraftPoint {
  let point = newPoint(protocol, kind, number, name);
  for (const [key, text] of Object.entries(fields)) {
    const set = pointField(key).set(point, text);
    if (!set.ok) throw new Error(`${name}, ${key}: ${set.problem}`);
    point = set.value;
  }
  return point;
}

/** Profiles that come along: a beginning to be adapted, of no particular make. */
export const GENERIC_PROFILES: readonly Profile[] = DEVICE_PROTOCOLS.flatMap((protocol) =>
  deviceOf(protocol).profiles.map(({ points, ...rest }) =>
    profileSchema.parse({
      schema: 'halvix.profile',
      version: 2,
      ...rest,
      protocol,
      points: points.map((point) => pointOf(protocol, point)),
    }),
  ),
);
