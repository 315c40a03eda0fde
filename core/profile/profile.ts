import '../words/index.ts';
import { z } from 'zod';
import { devicePart, DEVICE_PROTOCOLS, definitionOf, deviceOf } from '../protocols/index.ts';
import { codeSchema, OBJECT_SCHEMAS, upgradedProfile, type DeviceObject, type DraftPoint } from '../config/index.ts';

/**
 * A device's settings and list without its own name and addresses: for the next twenty of its kind. Described in
 * docs/formats.md.
 */
const profileDocument = z.object({
  schema: z.literal('halvix.profile'),
  version: z.literal(2),
  code: codeSchema,
  name: OBJECT_SCHEMAS.link.shape.name,
  description: OBJECT_SCHEMAS.station.shape.description,
  protocol: z.enum(DEVICE_PROTOCOLS),
  settings: z.record(z.string(), z.unknown()),
  points: z.array(OBJECT_SCHEMAS.point).max(100_000),
});

/** A profile's settings are read like a device's, at a place that is then forgotten. */
const checkedSettings = profileDocument.transform((profile, context) => {
  const device = deviceOf(profile.protocol);
  const read = devicePart.safeParse({
    protocol: profile.protocol,
    settings: { ...profile.settings, ...picked(device.first, device.placed) },
  });
  if (read.success) return { ...profile, settings: without(read.data.settings, notInProfile(device)) };
  for (const issue of read.error.issues) context.addIssue({ code: 'custom', message: issue.message, path: issue.path });
  return z.NEVER;
});

/** What differs from device to device, and what nobody else is told. */
const notInProfile = ({ placed, fields }: ReturnType<typeof deviceOf>): string[] => [
  ...placed,
  ...fields.flatMap(({ type, path }) => (type === 'secret' ? [path.replace('settings.', '')] : [])),
];
const picked = (settings: object, keys: readonly string[]): Record<string, unknown> =>
  Object.fromEntries(Object.entries(settings).filter(([key]) => keys.includes(key)));
const without = (settings: object, keys: readonly string[]): Record<string, unknown> =>
  Object.fromEntries(Object.entries(settings).filter(([key]) => !keys.includes(key)));

/** Those of earlier versions are read too. */
export const profileSchema = z.preprocess(upgradedProfile, checkedSettings);
export type Profile = z.infer<typeof profileDocument>;

/** Saves a device as a profile. */
export function profileOf(device: DeviceObject, points: readonly DraftPoint[], code: string, name: string): Profile {
  const settings = without(device.settings, notInProfile(deviceOf(device.protocol)));
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
  name: OBJECT_SCHEMAS.link.shape.name,
  station: codeSchema,
  host: OBJECT_SCHEMAS.link.shape.host,
  port: OBJECT_SCHEMAS.link.shape.port,
  /** How its link tells frames apart; absent: as is usual. */
  framing: OBJECT_SCHEMAS.link.shape.framing.optional(),
  /** The settings that differ from device to device. */
  settings: z.record(z.string(), z.unknown()),
});
export type Placement = z.infer<typeof placementSchema>;

/** The link and the device that a profile makes at a place; throws a ZodError where the place does not fit. */
export function deviceFrom(
  profile: Profile,
  { code, name, station, host, port, framing, settings }: Placement,
): { link: z.infer<typeof OBJECT_SCHEMAS.link>; device: DeviceObject; points: DraftPoint[] } {
  const { protocol } = profile;
  const { framings } = definitionOf(protocol);
  const [usual] = framings.filter(({ links }) => links.includes('tcpClient'));
  return {
    link: OBJECT_SCHEMAS.link.parse({
      code,
      name: `${code} line`,
      type: 'tcpClient',
      protocol,
      framing: framing ?? usual?.code ?? '',
      host,
      port,
    }),
    device: OBJECT_SCHEMAS.device.parse({
      code,
      name,
      description: profile.description,
      station,
      link: code,
      protocol,
      life: 'inService',
      settings: { ...profile.settings, ...picked(settings, deviceOf(protocol).placed) },
    }),
    points: profile.points,
  };
}
