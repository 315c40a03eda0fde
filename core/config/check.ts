import { objectType } from '../dnp3/index.ts';
import { addressWords } from '../point/index.ts';
import type { Result } from '../session/index.ts';
import { configurationSchema, type Configuration, type OutboundConfig } from './document.ts';

export interface ConfigurationProblem {
  /** Where, in the words of the document: `devices HLM-F1, settings.retries`. */
  where: string;
  words: string;
}

/** Reads a document from outside: shape first, then whether its parts fit each other. */
export function readConfiguration(input: unknown): Result<Configuration, ConfigurationProblem[]> {
  const parsed = configurationSchema.safeParse(input);
  if (!parsed.success)
    return {
      ok: false,
      problem: parsed.error.issues
        .slice(0, 100)
        .map((issue) => ({ where: issue.path.join('.'), words: issue.message })),
    };
  const problems = checkConfiguration(parsed.data);
  return problems.length > 0 ? { ok: false, problem: problems } : { ok: true, value: parsed.data };
}

/** What does not fit within a well-formed document. */
export function checkConfiguration(configuration: Configuration): ConfigurationProblem[] {
  const problems: ConfigurationProblem[] = [];
  const report = (where: string, words: string): void => void problems.push({ where, words });
  const { stations, links, devices, outbounds } = configuration;

  unique(
    stations,
    (s) => s.code,
    (s) => report(`station ${s.code}`, 'another station has this code'),
  );
  unique(
    links,
    (l) => l.code,
    (l) => report(`link ${l.code}`, 'another link has this code'),
  );
  unique(
    links,
    (l) => `${l.host}:${l.port}`,
    (l) => report(`link ${l.code}`, `another link goes to ${l.host}:${l.port}`),
  );
  unique(
    devices,
    (d) => d.code,
    (d) => report(`device ${d.code}`, 'another device has this code'),
  );
  unique(
    devices,
    (d) => d.link,
    (d) => report(`device ${d.code}`, `link ${d.link} already has a device; one device a link for now`),
  );
  unique(
    outbounds,
    (o) => o.code,
    (o) => report(`outbound ${o.code}`, 'another outbound has this code'),
  );
  unique(
    outbounds,
    (o) => o.port,
    (o) => report(`outbound ${o.code}`, `another outbound listens on port ${o.port}`),
  );

  const stationCodes = new Set(stations.map((s) => s.code));
  const linkCodes = new Set(links.map((l) => l.code));
  for (const device of devices) {
    const where = `device ${device.code}`;
    if (!stationCodes.has(device.station)) report(where, `there is no station ${device.station}`);
    if (!linkCodes.has(device.link)) report(where, `there is no link ${device.link}`);
    if (device.settings.ourAddress === device.settings.theirAddress)
      report(where, `our address and the device's are both ${device.settings.ourAddress}`);
    unique(
      device.points,
      (p) => `${p.kind} ${p.index}`,
      (p) => report(`${where}, ${addressWords(p.kind, p.index)}`, 'another point has this address'),
    );
    const have = new Set(device.points.map((p) => `${p.kind} ${p.index}`));
    for (const point of device.points) {
      const feedback = point.control?.feedback;
      if (feedback && !have.has(`${feedback.kind} ${feedback.index}`))
        report(
          `${where}, ${point.name}`,
          `its feedback ${addressWords(feedback.kind, feedback.index)} is not in the list`,
        );
    }
  }
  const sources = new Set(devices.flatMap((d) => d.points.map((p) => `${d.code} ${p.kind} ${p.index}`)));
  for (const outbound of outbounds) checkOutbound(outbound, sources, report);
  return problems;
}

function checkOutbound(
  outbound: OutboundConfig,
  sources: ReadonlySet<string>,
  report: (where: string, words: string) => void,
): void {
  const where = `outbound ${outbound.code}`;
  if (outbound.settings.ourAddress === outbound.settings.theirAddress)
    report(where, `our address and the centre's are both ${outbound.settings.ourAddress}`);
  unique(
    outbound.mappings,
    (m) => `${m.target.kind} ${m.target.index}`,
    (m) => report(`${where}, ${addressWords(m.target.kind, m.target.index)}`, 'two points are mapped to this address'),
  );
  for (const { device, kind, index, target } of outbound.mappings) {
    const at = `${where}, ${addressWords(target.kind, target.index)}`;
    if (!sources.has(`${device} ${kind} ${index}`))
      report(at, `there is no point ${addressWords(kind, index)} in ${device}`);
    if (kind !== target.kind) report(at, `${addressWords(kind, index)} is of another kind`);
    const groups = { binary: [1, 2], doubleBit: [3, 4], output: [10, 0], analog: [30, 32], counter: [20, 22] }[
      target.kind
    ];
    if (objectType(groups[0], target.staticVariation) === undefined)
      report(at, `there is no object g${groups[0]}v${target.staticVariation}`);
    if (target.eventClass > 0 && objectType(groups[1], target.eventVariation) === undefined)
      report(at, `there is no event object g${groups[1]}v${target.eventVariation}`);
  }
}

function unique<Item>(
  items: readonly Item[],
  key: (item: Item) => string | number,
  onRepeat: (item: Item) => void,
): void {
  const seen = new Set<string | number>();
  for (const item of items) {
    if (seen.has(key(item))) onRepeat(item);
    seen.add(key(item));
  }
}
