import {
  configurationSchema,
  mappingSchema,
  pointSchema,
  upgradedObject,
  upgradedShell,
  type Configuration,
  type ObjectKind,
} from '@halvix/core/config';

const SLICE = 500;
const breathe = (): Promise<void> => new Promise((resolve) => setImmediate(resolve));

/**
 * Reads a stored document, which was checked when it was applied, perhaps by an earlier version. In slices, so that a list of 100 000 points holds up
 * nobody's poll.
 */
export async function readStored(document: unknown): Promise<Configuration> {
  // One of a later program is refused.
  const stored = upgradedShell(document) as Configuration;
  const { devices, outbounds } = stored;
  const shell = configurationSchema.safeParse({
    ...stored,
    devices: devices.map((device) => ({ ...device, points: [] })),
    outbounds: outbounds.map((outbound) => ({ ...outbound, mappings: [] })),
  });
  if (!shell.success) {
    const [issue] = shell.error.issues;
    throw new Error(`a stored configuration cannot be read: ${issue.path.join('.')}: ${issue.message}`);
  }
  const slices = async <Item>(
    kind: ObjectKind,
    given: readonly unknown[],
    parse: (item: unknown) => Item,
  ): Promise<Item[]> => {
    const items: Item[] = [];
    for (let at = 0; at < given.length; at += SLICE) {
      for (const item of given.slice(at, at + SLICE)) items.push(parse(upgradedObject(kind, item)));
      if (given.length > SLICE) await breathe();
    }
    return items;
  };
  const points = new Shared();
  for (const [i, device] of shell.data.devices.entries())
    device.points = await slices('point', devices[i].points, (point) => points.parts(pointSchema.parse(point)));
  for (const [i, outbound] of shell.data.outbounds.entries())
    outbound.mappings = await slices('mapping', outbounds[i].mappings, (mapping) => mappingSchema.parse(mapping));
  return shell.data;
}

/**
 * What many points say alike (their deadband, what is kept of them, their state words) stands in memory once: of 100 000
 * points the collector of garbage then has half as much to look at.
 */
class Shared {
  private readonly known = new Map<string, object>();

  /** The same document, with its parts shared where they are equal. Nobody changes any of them. */
  parts<Document extends object>(document: Document): Document {
    for (const [key, value] of Object.entries(document) as [keyof Document, unknown][]) {
      if (typeof value !== 'object' || value === null || key === 'at') continue;
      const text = JSON.stringify(value);
      const known = this.known.get(text);
      if (known !== undefined) document[key] = known as Document[keyof Document];
      else this.known.set(text, value);
    }
    return document;
  }
}
