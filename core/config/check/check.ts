import ipaddr from 'ipaddr.js';
import { sharedConversations, sharingProblem } from '../document/conversations.ts';
import { kindProblem, type ScaledPoint } from '../../point/index.ts';
import { addressOf, isLinked, targetsOf, definitionOf, deviceOf, pointsOf, wayOut } from '../../protocols/index.ts';
import type { Result } from '../../session/index.ts';
import { LINK_TYPE_WORDS } from '../../line/index.ts';
import { checkPoints } from './checkpoints.ts';
import {
  configurationSchema,
  endpointWords,
  type Configuration,
  type LinkConfig,
  type MappingConfig,
  type OutboundConfig,
  type RadioConfig,
} from '../document/document.ts';
import { allowsEverybody, doMeet, isLoopbackOnly } from '../document/access.ts';
import { objectKey, type DraftPoint, type ObjectKind } from '../document/objects.ts';
import { upgradedConfiguration } from '../upgrade.ts';
import type { ConfigurationProblem, Severity } from './problem.ts';

/**
 * Reads a document from outside, perhaps of an earlier version: shape first, then whether its parts fit each other.
 * Warnings do not refuse it.
 */
export function readConfiguration(given: unknown): Result<Configuration, ConfigurationProblem[]> {
  return readUpgraded(upgradedConfiguration(given));
}

/** The same of a document that comes from somewhere else: who may connect or operate and is not said is nobody. */
export function readImported(given: unknown): Result<Configuration, ConfigurationProblem[]> {
  const input = upgradedConfiguration(given);
  if (typeof input !== 'object' || input === null) return readUpgraded(input);
  const { links, outbounds } = input as { links?: unknown; outbounds?: unknown };
  return readUpgraded({
    ...input,
    ...(links === undefined ? {} : { links: closed(links, { allowFrom: [] }) }),
    ...(outbounds === undefined
      ? {}
      : { outbounds: closed(outbounds, { allowFrom: [], controls: false, controlsFrom: [] }) }),
  });
}

const closed = (all: unknown, nobody: object): unknown =>
  Array.isArray(all)
    ? (all as unknown[]).map((one) => (typeof one === 'object' && one !== null ? { ...nobody, ...one } : one))
    : all;

function readUpgraded(input: unknown): Result<Configuration, ConfigurationProblem[]> {
  const parsed = configurationSchema.safeParse(input);
  if (!parsed.success)
    return {
      ok: false,
      problem: parsed.error.issues.slice(0, 200).map((issue) => ({
        severity: 'problem',
        where: issue.path.join('.'),
        words: issue.message,
        ...locate(input, issue.path),
      })),
    };
  const problems = checkConfiguration(parsed.data).filter(({ severity }) => severity === 'problem');
  return problems.length > 0 ? { ok: false, problem: problems } : { ok: true, value: parsed.data };
}

const COLLECTIONS: Partial<Record<string, ObjectKind>> = {
  stations: 'station',
  links: 'link',
  radios: 'radio',
  devices: 'device',
  outbounds: 'outbound',
};

/** The object that a path into the document lies in. */
function locate(input: unknown, path: readonly PropertyKey[]): Pick<ConfigurationProblem, 'at'> {
  const [collection, position, inner, row] = path;
  const kind = COLLECTIONS[String(collection)];
  if (kind === undefined || typeof position !== 'number') return {};
  const documents = (input as Record<string, unknown>)[String(collection)];
  const document = Array.isArray(documents) ? (documents as unknown[])[position] : undefined;
  if (typeof document !== 'object' || document === null) return {};
  const code = String((document as { code?: unknown }).code);
  if ((inner === 'points' || inner === 'mappings') && typeof row === 'number') {
    const rows = (document as Record<string, unknown[]>)[inner];
    const innerKind = inner === 'points' ? 'point' : 'mapping';
    try {
      return { at: { kind: innerKind, parent: code, key: objectKey(innerKind, rows[row]) } };
    } catch {
      return { at: { kind, parent: '', key: code } };
    }
  }
  return { at: { kind, parent: '', key: code } };
}

/** What does not fit within a well-formed document, and what is worth a look. */
export function checkConfiguration(configuration: Configuration): ConfigurationProblem[] {
  const problems: ConfigurationProblem[] = [];
  const { stations, links, radios, devices, outbounds } = configuration;
  const reporter =
    (kind: ObjectKind, key: string, parent = '', where = `${kind} ${key}`) =>
    (words: string, severity: Severity = 'problem', at = ''): void =>
      void problems.push({ severity, where: at ? `${where}, ${at}` : where, words, at: { kind, parent, key } });

  unique(
    stations,
    (s) => s.code,
    (s) => reporter('station', s.code)('another station has this code'),
  );
  unique(
    links,
    (l) => l.code,
    (l) => reporter('link', l.code)('another link has this code'),
  );
  // Whoever has many clients is meant to have several of ours.
  const single = links.filter(({ protocol }) => wayOut(protocol)?.knownBy === undefined);
  unique(single, endpointWords, (l) =>
    // Where each device has a conversation of its own, several with one party are meant; and seldom by mistake.
    l.type === 'tcpClient' && definitionOf(l.protocol).device?.takesTurns !== true
      ? reporter('link', l.code)(
          `another link goes to ${endpointWords(l)} too: each has its own conversation`,
          'warning',
        )
      : reporter(
          'link',
          l.code,
        )(
          l.type === 'tcpClient' ? `another link goes to ${endpointWords(l)}` : `another link uses ${endpointWords(l)}`,
        ),
  );
  const conversations = sharedConversations(configuration);
  const guests = new Set(conversations.filter(({ isCalled }) => isCalled).map(({ device }) => device));
  const carrying = new Set(devices.map(({ link }) => link));
  const outgoing = new Set(outbounds.map(({ link }) => link));
  for (const link of links) {
    const users: LinkUsers = {
      ...{ devices: carrying.has(link.code), outbounds: outgoing.has(link.code) },
      shared: conversations.some((one) => one.outbound.link === link.code),
    };
    checkLink(link, users, (words, severity) => reporter('link', link.code)(words, severity));
  }
  checkListening(links, (code, words) => reporter('link', code)(words));
  unique(
    devices,
    (d) => d.code,
    (d) => reporter('device', d.code)('another device has this code'),
  );
  unique(
    devices.filter((d) => isLinked(d.protocol) && !guests.has(d)),
    (d) => `${d.link} ${deviceOf(d.protocol).key(d.settings)}`,
    (d) =>
      reporter('device', d.code)(`another device on link ${d.link} has the ${deviceOf(d.protocol).where(d.settings)}`),
  );
  unique(
    outbounds,
    (o) => o.code,
    (o) => reporter('outbound', o.code)('another outbound has this code'),
  );
  checkKnown(configuration, (code, words) => reporter('outbound', code)(words));
  unique(
    conversations.map(({ outbound }) => outbound),
    (o) => `${o.link} ${o.partner}`,
    (o) => reporter('outbound', o.code)(`another outbound is ${o.partner} in the same conversation`),
  );
  const calling = new Set(conversations.filter(({ isCalled }) => !isCalled).map(({ outbound }) => outbound));
  const [called, framed] = [true, false].map((is) =>
    outbounds
      .filter((outbound) => !calling.has(outbound))
      .filter(({ protocol }) => (wayOut(protocol)?.byCaller ?? false) === is),
  );
  checkCallers(called, (code, words) => reporter('outbound', code)(words));
  unique(
    framed,
    (o) => `${o.link} ${wayOut(o.protocol)?.key(o.settings)}`,
    (o) =>
      reporter(
        'outbound',
        o.code,
      )(
        wayOut(o.protocol)?.key(o.settings) === ''
          ? `another outbound is on link ${o.link}: its connection is one outbound's alone`
          : `another outbound${o.link === '' ? '' : ` on link ${o.link}`} has ${wayOut(o.protocol)?.where(o.settings)} too`,
      ),
  );
  for (const outbound of outbounds) {
    const link = links.find(({ code }) => code === outbound.link);
    const report = reporter('outbound', outbound.code);
    checkOutboundLink(outbound, link, report);
    const offered = new Set(outbound.mappings.map(({ target }) => addressOf(target)));
    for (const name of wayOut(outbound.protocol)?.namesTargets?.(outbound.settings) ?? [])
      if (!offered.has(name)) report(`its settings name ${name}, and nothing is mapped there`);
    const shared = conversations.some((one) => one.outbound === outbound);
    const objection = link && carrying.has(link.code) ? sharingProblem(outbound, link, shared) : null;
    if (objection !== null) report(objection);
  }

  const stationCodes = new Set(stations.map((s) => s.code));
  const linkCodes = new Set(links.map((l) => l.code));
  for (const { points, ...device } of devices) {
    const report = reporter('device', device.code);
    if (!stationCodes.has(device.station)) report(`there is no station ${device.station}`);
    if (!isLinked(device.protocol) && device.link !== '')
      report(`${definitionOf(device.protocol).words.name} has no link, and it is on ${device.link}`);
    if (isLinked(device.protocol) && !linkCodes.has(device.link))
      report(device.link === '' ? 'it has no link' : `there is no link ${device.link}`);
    for (const words of deviceOf(device.protocol).check(device.settings)) report(words);
    const link = links.find(({ code }) => code === device.link);
    if (link !== undefined && link.protocol !== device.protocol)
      report(
        `it speaks ${definitionOf(device.protocol).words.name}, and its link ${link.code} carries ${definitionOf(link.protocol).words.name}`,
      );
    if (link !== undefined && outgoing.has(link.code) && !deviceOf(device.protocol).links.includes(link.type)) {
      const is = conversations.some((one) => one.device.code === device.code);
      if (!is) report(`on its link ${link.code} centres call: say in an outbound there which of them it is`);
    }
    if (device.life === 'drafted') report('it is drafted: not collected yet', 'warning');
    if (points.length === 0 && device.life !== 'drafted') report('its point list is empty', 'warning');
    for (const { row, severity, words } of checkPoints(points, device)) {
      const point = points[row];
      const where = `device ${device.code}, ${addressOf(point)}`;
      reporter('point', objectKey('point', point), device.code, where)(words, severity);
    }
  }
  checkRadios(radios, (code, words, severity) => reporter('radio', code)(words, severity));
  for (const { code, station } of radios)
    if (!stationCodes.has(station)) reporter('radio', code)(`there is no station ${station}`);
  const listOf = new Map(
    devices.map((d) => [d.code, new Map(d.points.map((p) => [addressOf(p), p] as const))] as const),
  );
  for (const outbound of outbounds) checkOutbound(outbound, listOf, reporter);
  const outboundCodes = new Set(outbounds.map(({ code }) => code));
  for (const { code, points, protocol } of devices) {
    const { names } = pointsOf(protocol);
    if (names === undefined) continue;
    for (const point of points) {
      const named = names.of(point.at);
      if (named === null) continue;
      const known =
        named.kind === 'outbound'
          ? outboundCodes.has(named.code)
          : named.point === null
            ? listOf.has(named.code)
            : listOf.get(named.code)?.has(named.point);
      if (!known)
        reporter(
          'point',
          objectKey('point', point),
          code,
          `device ${code}, ${addressOf(point)}`,
        )(`there is no ${named.point === null ? named.kind : `point ${named.point} in`} ${named.code}`);
    }
  }
  return problems;
}

/** By whatever name one party knows several of ours, it is another one for each. */
function checkKnown({ links, outbounds }: Configuration, report: (code: string, words: string) => void): void {
  const ends = new Map(links.map((link) => [link.code, endpointWords(link)]));
  const known = outbounds.flatMap(({ code, protocol, link, settings }) => {
    const name = wayOut(protocol)?.knownBy?.(settings);
    return name === undefined ? [] : [{ code, end: ends.get(link) ?? '', name }];
  });
  unique(
    known,
    ({ end, name }) => `${end} ${name}`,
    ({ code, end, name }) => report(code, `another outbound is ${name} at ${end} too`),
  );
}

/** Outbounds that are told apart by who calls: nobody may be meant by two of them. */
function checkCallers(outbounds: readonly OutboundConfig[], report: (code: string, words: string) => void): void {
  outbounds.forEach((outbound, at) => {
    const { code, link, protocol, settings, allowFrom, peerName } = outbound;
    const key = wayOut(protocol)?.key(settings);
    const other = outbounds
      .slice(0, at)
      .find(
        (one) =>
          one.link === link &&
          wayOut(one.protocol)?.key(one.settings) === key &&
          (one.peerName === peerName || one.peerName === '' || peerName === '') &&
          doMeet(one.allowFrom, allowFrom),
      );
    if (other)
      report(
        code,
        `${other.code} on link ${link} lets in the same callers: name other networks, or another name in the certificate`,
      );
  });
}

/** Whether devices are on a link, or outbounds. */
interface LinkUsers {
  devices: boolean;
  outbounds: boolean;
  /** A device and an outbound on it are one party, in one conversation. */
  shared: boolean;
}

function checkLink(
  { type, protocol, framing, host, standbyHost, serialPort, line, tls, calls, allowFrom }: LinkConfig,
  users: LinkUsers,
  report: (words: string, severity?: Severity) => void,
): void {
  const { words, framings, device } = definitionOf(protocol);
  const links = device?.links ?? [];
  const out = wayOut(protocol)?.links ?? [];
  if (!users.devices && !users.outbounds) report('no device and no outbound uses it', 'warning');
  const goes = users.shared ? [...links, ...out] : [...(users.outbounds ? [] : links), ...(users.devices ? [] : out)];
  if (!goes.includes(type))
    report(`${words.name}${users.outbounds ? ' of an outbound' : ''} does not go over ${LINK_TYPE_WORDS[type]}`);
  const fitting = framings.filter((one) => one.links.includes(type)).map(({ code }) => code);
  if (framings.length > 0 && !fitting.includes(framing))
    report(
      `its framing ${framing || 'is not said'}: ${words.name} has ${fitting.join(', ')} over ${LINK_TYPE_WORDS[type]}`,
    );
  if (standbyHost !== '' && type === 'tcpClient' && standbyHost === host)
    report(`its other address ${standbyHost} is its first one`);
  if (type === 'serial') {
    if (serialPort === '') report('a serial link needs a serial port');
    if (line.bitRate === 0) report('a serial link needs a bit rate');
  }
  if (line.keyWithRts && type !== 'serial') report('only a serial port has an RTS line to key a radio with');
  if ((line.keyUpMs > 0 || line.keyDownMs > 0) && line.bitRate === 0)
    report('a radio with key-up and key-down times needs the bit rate of its line');
  if (tls.use && type !== 'tcpClient' && type !== 'tcpServer') report('TLS goes over TCP');
  checkTlsFiles(tls, report);
  if (type === 'tcpServer' && users.devices && !users.shared)
    checkAccess({ host, allowFrom, tls }, false, 'a device', report);
  if (calls.when === 'onDemand' && calls.everyMs > 0 && calls.lateAfterMs > 0 && calls.lateAfterMs < calls.everyMs)
    report(`lost after ${calls.lateAfterMs} ms without a call, but a call comes every ${calls.everyMs} ms`, 'warning');
}

const ANY_ADDRESS = ['0.0.0.0', '::'];

/** Ports that we listen on: each once, and none of them called by ourselves. */
function checkListening(links: readonly LinkConfig[], report: (code: string, words: string) => void): void {
  const listening = links.filter(({ type }) => type === 'tcpServer');
  listening.forEach(({ code, host, port }, at) => {
    const first = listening
      .slice(0, at)
      .find((one) => one.port === port && one.host !== host && [one.host, host].some((a) => ANY_ADDRESS.includes(a)));
    if (first) report(code, `${first.code} listens on port ${port} too, at ${first.host}: one of them gets it`);
  });
  for (const { code, type, host, port } of links) {
    const own = listening.find((one) => type === 'tcpClient' && one.port === port && one.host === host);
    if (own) report(code, `it goes to ${host}:${port}, where our own link ${own.code} listens`);
  }
}

function checkOutboundLink(
  { link: code, protocol, controls, allowFrom, peerName }: OutboundConfig,
  link: LinkConfig | undefined,
  report: (words: string, severity?: Severity) => void,
): void {
  if (wayOut(protocol)?.links.length === 0) {
    if (code !== '') report(`${definitionOf(protocol).words.name} needs no link, and it is on ${code}`);
    return;
  }
  if (link === undefined) {
    report(code === '' ? 'it has no link' : `there is no link ${code}`);
    return;
  }
  const { type, host, line, calls, tls } = link;
  if (link.protocol !== protocol)
    report(
      `it speaks ${definitionOf(protocol).words.name}, and its link ${code} carries ${definitionOf(link.protocol).words.name}`,
    );
  if (calls.when === 'onDemand') report(`its link ${code} is made on demand: an outbound's is always there`);
  if (line.keyUpMs > 0 || line.keyDownMs > 0 || line.keyWithRts)
    report(`its link ${code} keys a radio: for an outbound nothing is keyed`);
  if (peerName !== '' && !tls.use) report(`it wants ${peerName} in a certificate, and its link ${code} has no TLS`);
  if (type === 'tcpServer') checkAccess({ host, allowFrom, tls }, controls, 'the centre', report);
}

function checkTlsFiles(tls: LinkConfig['tls'], report: (words: string) => void): void {
  if (!tls.use) return;
  for (const [what, name] of [
    ['authority certificate', tls.authorityFile],
    ['certificate', tls.certificateFile],
    ['key', tls.keyFile],
  ])
    if (name === '') report(`TLS needs a file with the ${what}`);
}

/** Who reaches an open port, and what for. */
function checkAccess(
  { host, allowFrom, tls }: Pick<LinkConfig, 'host' | 'allowFrom' | 'tls'>,
  controls: boolean,
  who: string,
  report: (words: string, severity?: Severity) => void,
): void {
  if (allowFrom.length === 0) report(`nobody may connect: name the networks that ${who} connects from`, 'warning');
  // At a loopback address nobody else gets there.
  else if (isLoopbackOnly([host])) return;
  else if (isLoopbackOnly(allowFrom))
    report(`only this machine itself may connect: name the networks that ${who} connects from`, 'warning');
  else if (allowsEverybody(allowFrom) && !tls.use)
    report(
      `anybody who reaches the port may connect${controls ? ', and operate' : ''}: name the networks, or use TLS`,
      'warning',
    );
}

/**
 * A radio has two networks. The radio sides of all radios share one subnet and all differ; the wired sides are not
 * bridged to it, and may repeat from radio to radio (common practice).
 */
function checkRadios(
  radios: readonly RadioConfig[],
  report: (code: string, words: string, severity?: Severity) => void,
): void {
  unique(
    radios,
    (r) => r.code,
    (r) => report(r.code, 'another radio has this code'),
  );
  unique(
    radios,
    (r) => r.radioSide.address,
    (r) => report(r.code, `another radio has ${r.radioSide.address} on its radio side`),
  );
  const [first] = radios;
  for (const { code, radioSide, wiredSide } of radios) {
    if (subnetOf(radioSide) !== subnetOf(first.radioSide))
      report(code, `its radio side ${radioSide.address}/${radioSide.prefix} is not in the subnet of ${first.code}'s`);
    if (overlap(radioSide, wiredSide))
      report(code, `its radio side and its wired side are in one subnet: they are two networks, not bridged`);
  }
}

type Network = RadioConfig['radioSide'];
/** A network as people write it: `10.1.0.0/16`. */
export const subnetOf = ({ address, prefix }: Network): string =>
  `${ipaddr.IPv4.networkAddressFromCIDR(`${address}/${prefix}`).toString()}/${prefix}`;
const overlap = (a: Network, b: Network): boolean => {
  const prefix = Math.min(a.prefix, b.prefix);
  return subnetOf({ ...a, prefix }) === subnetOf({ ...b, prefix });
};

function checkOutbound(
  outbound: OutboundConfig,
  listOf: ReadonlyMap<string, ReadonlyMap<string, Configuration['devices'][number]['points'][number]>>,
  reporter: (
    kind: ObjectKind,
    key: string,
    parent?: string,
    where?: string,
  ) => (words: string, severity?: Severity) => void,
): void {
  const where = `outbound ${outbound.code}`;
  for (const words of wayOut(outbound.protocol)?.check(outbound.settings) ?? [])
    reporter('outbound', outbound.code)(words);
  for (const device of partnersOf(outbound))
    if (!listOf.has(device))
      reporter('outbound', outbound.code)(`it is device ${device} too, and there is no such device`);
  const { settings } = outbound;
  const report = (mapping: OutboundConfig['mappings'][number]): ((words: string, severity?: Severity) => void) => {
    const { target } = mapping;
    const at = `${where}, ${addressOf(target)}`;
    return reporter('mapping', objectKey('mapping', mapping), outbound.code, at);
  };
  unique(
    outbound.mappings,
    (m) => addressOf(m.target),
    (m) => report(m)('two points are mapped to this address'),
  );
  for (const mapping of outbound.mappings) {
    const { device, target } = mapping;
    const point = listOf.get(device)?.get(mapping.point);
    if (point === undefined) {
      report(mapping)(`there is no point ${mapping.point} in ${device}`);
      continue;
    }
    const back = loopOf(outbound, mapping);
    if (back !== null) report(mapping)(back);
    const misfit = misfitOf(point, mapping);
    if (misfit !== null) report(mapping)(misfit.words, misfit.severity);
    if (target.at.protocol !== outbound.protocol)
      report(mapping)(`it is offered as ${definitionOf(target.at.protocol).words.name}, which the outbound is not`);
    for (const words of targetsOf(target.at.protocol).problems(target, settings)) report(mapping)(words);
  }
}

/** All devices that are the party of an outbound. */
export const partnersOf = ({ partner, alsoPartners }: Pick<OutboundConfig, 'partner' | 'alsoPartners'>): string[] =>
  partner === '' ? [] : [partner, ...alsoPartners];

/** Why a point must not go to a party: it came from there. Null when it did not. */
export const loopOf = (
  outbound: Pick<OutboundConfig, 'partner' | 'alsoPartners' | 'centre'>,
  { device }: Pick<MappingConfig, 'device'>,
): string | null =>
  partnersOf(outbound).includes(device)
    ? `${device} is ${outbound.centre}: the point would come back to where it is from`
    : null;

/** Why a point does not fit where it is mapped to; null when it does. */
export function misfitOf(
  point: ScaledPoint & Pick<DraftPoint, 'kind' | 'at'>,
  { target }: Pick<MappingConfig, 'target'>,
): { severity: Severity; words: string } | null {
  const other = kindProblem(point.kind, target.kind);
  if (other !== null) return { severity: 'problem', words: `${addressOf(point)} is of another kind: ${other}` };
  const words = targetsOf(target.at.protocol).misfit(point, target);
  return words === null ? null : { severity: 'warning', words };
}

/** Reports every item after the first with the same key. */
function unique<Item>(
  items: readonly Item[],
  key: (item: Item) => string | number,
  report: (item: Item) => void,
): void {
  const seen = new Set<string | number>();
  for (const item of items) {
    if (seen.has(key(item))) report(item);
    seen.add(key(item));
  }
}
