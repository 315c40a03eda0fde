import '../words/index.ts';
import { z } from 'zod';
import { codeSchema, OBJECT_SCHEMAS, upgradedProfile, type DeviceObject, type DraftPoint } from '../config/index.ts';

/**
 * A device's settings and list without its own name and addresses: for the next twenty of its kind. Described in
 * docs/formats.md.
 */
const profileDocument = z.object({
  schema: z.literal('halvix.profile'),
  version: z.literal(2),
  code: codeSchema,
  name: OBJECT_SCHEMAS.device.shape.name,
  description: OBJECT_SCHEMAS.device.shape.description,
  protocol: z.literal('dnp3'),
  settings: OBJECT_SCHEMAS.device.shape.settings.omit({ ourAddress: true, theirAddress: true }),
  points: z.array(OBJECT_SCHEMAS.point).max(100_000),
});
/** Those of earlier versions are read too. */
export const profileSchema = z.preprocess(upgradedProfile, profileDocument);
export type Profile = z.infer<typeof profileDocument>;

/** Saves a device as a profile. */
export function profileOf(device: DeviceObject, points: readonly DraftPoint[], code: string, name: string): Profile {
  const { ourAddress: _ours, theirAddress: _theirs, ...settings } = device.settings;
  return {
    schema: 'halvix.profile',
    version: 2,
    code,
    name,
    description: device.description,
    protocol: device.protocol,
    settings,
    points: [...points],
  };
}

/** What a device needs that its profile does not say. */
export const placementSchema = z.object({
  code: codeSchema,
  name: OBJECT_SCHEMAS.device.shape.name,
  station: codeSchema,
  host: OBJECT_SCHEMAS.link.shape.host,
  port: OBJECT_SCHEMAS.link.shape.port,
  theirAddress: OBJECT_SCHEMAS.device.shape.settings.shape.theirAddress,
  ourAddress: OBJECT_SCHEMAS.device.shape.settings.shape.ourAddress,
});
export type Placement = z.infer<typeof placementSchema>;

/** The link and the device that a profile makes at a place. */
export function deviceFrom(
  profile: Profile,
  { code, name, station, host, port, theirAddress, ourAddress }: Placement,
): { link: z.infer<typeof OBJECT_SCHEMAS.link>; device: DeviceObject; points: DraftPoint[] } {
  return {
    link: OBJECT_SCHEMAS.link.parse({ code, name: `${code} line`, type: 'tcpClient', host, port }),
    device: OBJECT_SCHEMAS.device.parse({
      code,
      name,
      description: profile.description,
      station,
      link: code,
      protocol: profile.protocol,
      life: 'inService',
      settings: { ...profile.settings, ourAddress, theirAddress },
    }),
    points: profile.points,
  };
}
