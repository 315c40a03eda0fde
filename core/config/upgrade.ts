import { FIRST_PROTOCOL, PROTOCOLS, usualFraming, type ProtocolCode } from '../protocols/index.ts';
import { addressWords, POINT_KINDS, type PointKind } from '../point/index.ts';
import type { ObjectKind } from './document/objects.ts';

/*
 * Documents of earlier versions, as today's.
 *
 * Version 1 said where a point is by its kind and index, in the point itself and wherever one was named. Since version 2
 * a point's place in its protocol is `at`, with what else only that protocol says of it, and others name it by its
 * address as text.
 *
 * Version 2 said in each outbound where we listen for its centre. Since version 3 that is a link, as it is for devices.
 *
 * Nothing is checked here: what does not have the shape of its time stays as it is, and the schema says what is wrong
 * with it.
 */

type Plain = Record<string, unknown>;
const isPlain = (value: unknown): value is Plain =>
  typeof value === 'object' && value !== null && !Array.isArray(value);
const isKind = (value: unknown): value is PointKind => POINT_KINDS.includes(value as PointKind);

/** `{ kind: 'analog', index: 7 }` → `AI 7`; undefined when it is no such thing. */
const referenceOf = (value: unknown): string | undefined =>
  isPlain(value) && isKind(value.kind) && typeof value.index === 'number'
    ? addressWords(value.kind, value.index)
    : undefined;

function upgradedPoint(point: Plain): Plain {
  const { index, eventClass, ...rest } = point;
  const at: Plain = { protocol: FIRST_PROTOCOL, index, ...(eventClass === undefined ? {} : { eventClass }) };
  const next: Plain = { ...rest, at };
  if (isPlain(rest.setting)) {
    const { sentAs, ...setting } = rest.setting;
    if (sentAs !== undefined) at.sentAs = sentAs;
    next.setting = { ...setting, feedback: referenceOf(setting.feedback) ?? setting.feedback };
  }
  if (isPlain(rest.control) && isPlain(rest.control.feedback)) {
    const { kind: _kind, index: _index, ...feedback } = rest.control.feedback;
    next.control = { ...rest.control, feedback: { ...feedback, point: referenceOf(rest.control.feedback) } };
  }
  if (isPlain(rest.history) && rest.history.mode === 'trigger')
    next.history = { mode: 'trigger', point: referenceOf(rest.history) };
  return next;
}

function upgradedMapping({ kind, index, target, ...rest }: Plain): Plain {
  const point = referenceOf({ kind, index });
  if (!isPlain(target)) return { ...rest, point, target };
  const { index: there, eventClass, staticVariation, eventVariation, ...others } = target;
  const at = { protocol: FIRST_PROTOCOL, index: there, eventClass, staticVariation, eventVariation };
  return { ...rest, point, target: { ...others, at } };
}

/** A piece of a configuration as today's. An outbound's link is taken to be the one that bears its code. */
export function upgradedObject(kind: ObjectKind, document: unknown): unknown {
  if (!isPlain(document)) return document;
  if (kind === 'outbound') return isListening(document) ? onLink(document, String(document.code)) : document;
  if (!('index' in document)) return document;
  if (kind === 'point') return upgradedPoint(document);
  return kind === 'mapping' ? upgradedMapping(document) : document;
}

/** An outbound that says itself where we listen. */
const isListening = (outbound: Plain): boolean => 'port' in outbound && !('link' in outbound);

const onLink = ({ host: _host, port: _port, tls, ...rest }: Plain, link: string): Plain => ({
  ...rest,
  link,
  peerName: isPlain(tls) ? (tls.serverName ?? '') : '',
});

function linkOf({ centre, protocol: given, host, port, tls }: Plain, code: string): Plain {
  const protocol = PROTOCOLS.includes(given as ProtocolCode) ? (given as ProtocolCode) : FIRST_PROTOCOL;
  const files = isPlain(tls) ? { tls: { ...tls, serverName: '' } } : {};
  const framing = usualFraming(protocol, 'tcpServer');
  return {
    code,
    name: `To ${String(centre)}`.slice(0, 80),
    type: 'tcpServer',
    protocol,
    framing,
    host,
    port,
    ...files,
  };
}

/**
 * The links of outbounds that say themselves where we listen: one for each port, named after the first outbound there,
 * or nearly so where that code is `taken`. `outbounds` come back as today's.
 */
export function withLinks(
  outbounds: readonly unknown[],
  taken: ReadonlySet<string>,
): { links: Plain[]; outbounds: unknown[] } {
  const links = new Map<string, Plain>();
  const codes = new Set(taken);
  const free = (code: string): string => {
    for (let n = 1; ; n++) {
      const tail = n === 1 ? '' : `-${n}`;
      const next = code.slice(0, 24 - tail.length) + tail;
      if (!codes.has(next)) return next;
    }
  };
  const portOf = ({ protocol, host, port, tls }: Plain): string => {
    const { serverName: _name, ...files } = isPlain(tls) ? tls : ({} as Plain);
    return JSON.stringify([protocol ?? FIRST_PROTOCOL, host, port, files]);
  };
  const old = outbounds.filter((one): one is Plain => isPlain(one) && isListening(one));
  for (const outbound of old.sort((a, b) => (String(a.code) < String(b.code) ? -1 : 1))) {
    if (links.has(portOf(outbound))) continue;
    const code = free(String(outbound.code));
    codes.add(code);
    links.set(portOf(outbound), linkOf(outbound, code));
  }
  return {
    links: [...links.values()],
    outbounds: outbounds.map((one) =>
      isPlain(one) && isListening(one) ? onLink(one, String(links.get(portOf(one))?.code)) : one,
    ),
  };
}

const ofEach = (items: unknown, list: string, kind: ObjectKind): unknown =>
  Array.isArray(items)
    ? items.map((item: unknown) =>
        isPlain(item) && Array.isArray(item[list])
          ? { ...item, [list]: item[list].map((one: unknown) => upgradedObject(kind, one)) }
          : item,
      )
    : items;

/** A configuration as today's, but for the rows of its lists. */
export function upgradedShell(document: unknown): unknown {
  if (!isPlain(document) || document.schema !== 'halvix.configuration') return document;
  if (document.version !== 1 && document.version !== 2) return document;
  const { links, outbounds } = document;
  if (!Array.isArray(links) || !Array.isArray(outbounds)) return { ...document, version: 3 };
  const made = withLinks(outbounds, new Set(links.map((link: unknown) => (isPlain(link) ? String(link.code) : ''))));
  return { ...document, version: 3, links: [...(links as unknown[]), ...made.links], outbounds: made.outbounds };
}

/** A whole configuration as today's. */
export function upgradedConfiguration(document: unknown): unknown {
  const shell = upgradedShell(document);
  if (!isPlain(document) || !isPlain(shell) || document.version !== 1) return shell;
  return {
    ...shell,
    devices: ofEach(shell.devices, 'points', 'point'),
    outbounds: ofEach(shell.outbounds, 'mappings', 'mapping'),
  };
}

/** A device profile as today's. */
export function upgradedProfile(document: unknown): unknown {
  if (!isPlain(document) || document.schema !== 'halvix.profile' || document.version !== 1) return document;
  const { points } = document;
  return {
    ...document,
    version: 2,
    points: Array.isArray(points) ? points.map((one: unknown) => upgradedObject('point', one)) : points,
  };
}
