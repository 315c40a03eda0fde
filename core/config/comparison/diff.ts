import { addressOf, type SettingField } from '../../protocols/index.ts';
import type { Configuration, MappingConfig } from '../document/document.ts';
import { fieldsOf } from '../document/fields.ts';
import { secretWords } from '../document/secrets.ts';
import { sameDocument } from './same.ts';
import { deviceTouch, linkTouch, outboundTouch } from './touches.ts';
import { decompose, objectKey, type ConfigObject, type DraftPoint, type ObjectKind } from '../document/objects.ts';

/** One object that differs between two configurations. */
export interface ConfigurationChange {
  what: 'added' | 'removed' | 'changed';
  kind: ObjectKind;
  parent: string;
  key: string;
  /** What it is called: `point HLM-F1, AI 7 Voltage L1-L2`. */
  title: string;
  /** Field by field, in words: `Retries: 2 → 3`. Empty for what was added or removed. */
  words: string[];
}

/** The objects in which two configurations differ, in the order of the document. */
export function diffConfigurations(before: Configuration, after: Configuration): ConfigurationChange[] {
  const [old, next] = [indexed(before), indexed(after)];
  const changes: ConfigurationChange[] = [];
  for (const [id, object] of next) {
    const known = old.get(id);
    if (known === undefined) changes.push(change('added', object, []));
    else if (known.document !== object.document) {
      const words = differences(known.document, object.document, object.kind);
      if (words.length > 0) changes.push(change('changed', object, words));
    }
  }
  for (const [id, object] of old) if (!next.has(id)) changes.push(change('removed', object, []));
  return changes;
}

function indexed(configuration: Configuration): Map<string, ConfigObject> {
  return new Map(
    decompose(configuration).map((object) => [
      `${object.kind}\n${object.parent}\n${objectKey(object.kind, object.document)}`,
      object,
    ]),
  );
}

function change(
  what: ConfigurationChange['what'],
  { kind, parent, document }: ConfigObject,
  words: string[],
): ConfigurationChange {
  return { what, kind, parent, key: objectKey(kind, document), title: titleOf(kind, parent, document), words };
}

/** What an object is called in a sentence. */
export function titleOf(kind: ObjectKind, parent: string, document: unknown): string {
  const named = document as { code?: string; name?: string; centre?: string };
  switch (kind) {
    case 'network':
      return 'name of the network';
    case 'point': {
      const point = document as DraftPoint;
      return `point ${parent}, ${addressOf(point) || 'no address'} ${point.name}`;
    }
    case 'mapping': {
      const { device, point, target } = document as MappingConfig;
      return `mapping ${device} ${point} → ${parent} ${addressOf(target)}`;
    }
    case 'outbound':
      return `outbound ${named.code} ${named.centre}`;
    case 'station':
    case 'link':
    case 'radio':
    case 'device':
      return `${kind} ${named.code} ${named.name}`;
    default:
      return kind satisfies never;
  }
}

/** Field by field, what differs between two documents of one kind. */
export function differences(before: unknown, after: unknown, kind: ObjectKind): string[] {
  const words: string[] = [];
  const meant = fieldsOf(kind, after).filter(({ applies }) => applies?.(after) ?? true);
  const fields = new Map(meant.map((field) => [field.path, field]));
  const walk = (a: unknown, b: unknown, path: string): void => {
    if (fields.get(path)?.type === 'file') {
      if (!sameDocument(a, b)) words.push(`${fields.get(path)?.title}: ${fileWords(a)} → ${fileWords(b)}`);
      return;
    }
    if (isPlain(a) && isPlain(b)) {
      for (const key of new Set([...Object.keys(a), ...Object.keys(b)]))
        walk(a[key], b[key], path ? `${path}.${key}` : key);
      return;
    }
    if (sameDocument(a, b)) return;
    const field = fields.get(path);
    if (field?.type === 'secret') {
      const next = secretWords(b);
      words.push(`${field.title}: ${secretWords(a)} → ${next === secretWords(a) ? 'another one' : next}`);
      return;
    }
    const unit = field?.unit ? ` ${field.unit}` : '';
    words.push(`${field?.title ?? spelled(path)}: ${shown(a, unit, field)} → ${shown(b, unit, field)}`);
  };
  walk(before, after, '');
  return words;
}

/** A file is known by its name; its text is too long to be said. */
const fileWords = (value: unknown): string => (isPlain(value) ? String(value.name) : 'none');

const isPlain = (value: unknown): value is Record<string, unknown> =>
  typeof value === 'object' && value !== null && !Array.isArray(value);

/** `pairs.rawLow` → `pairs, raw low`; what stands in the address is said without it. */
const spelled = (path: string): string =>
  path
    .replace(/(^|\.)at\./, '$1')
    .split('.')
    .map((part) => part.replace(/([A-Z])/g, (letter) => ` ${letter.toLowerCase()}`))
    .join(', ');

function shown(value: unknown, unit = '', field?: SettingField): string {
  if (value === null || value === undefined || value === '') return 'none';
  if (value === true) return 'yes';
  if (value === false) return 'no';
  if (Array.isArray(value)) return value.map((item) => shown(item)).join(' / ');
  if (isPlain(value))
    return Object.entries(value)
      .map(([key, inner]) => `${spelled(key)} ${shown(inner)}`)
      .join(', ');
  const choice = field?.choices?.find(([key]) => key === value);
  return choice ? choice[1] : `${String(value)}${unit}`;
}

/** `adopts`: it goes on, with other settings. */
export type Effect = 'starts' | 'stops' | 'restarts' | 'adopts' | 'listChanges' | 'goesOn';

/** What applying does to one session. */
export interface SessionEffect {
  kind: 'device' | 'outbound';
  code: string;
  name: string;
  effect: Effect;
}

/** Whether a device has a session in a configuration. */
export const isCollected = ({ life }: { life: string }): boolean => life === 'onTest' || life === 'inService';

/** What applying `after` over `before` does to each session; the engine goes by the same table (`touches`). */
export function sessionEffects(before: Configuration, after: Configuration): SessionEffect[] {
  const effects: SessionEffect[] = [];
  const linksBefore = new Map(before.links.map((link) => [link.code, link]));
  const linksAfter = new Map(after.links.map((link) => [link.code, link]));
  /** Of a session whose own configuration does not restart it. */
  const isLinkKept = (old: { link: string }, next: { link: string }): boolean => {
    const [from, to] = [linksBefore.get(old.link), linksAfter.get(next.link)];
    return from === undefined || to === undefined ? from === to : linkTouch(from, to) !== 'restarts';
  };
  const devicesBefore = new Map(before.devices.map((device) => [device.code, device]));
  for (const device of after.devices) {
    const old = devicesBefore.get(device.code);
    const ran = old !== undefined && isCollected(old);
    const runs = isCollected(device);
    const add = (effect: Effect): void =>
      void effects.push({ kind: 'device', code: device.code, name: device.name, effect });
    if (!ran && !runs) continue;
    if (!ran) add('starts');
    else if (!runs) add('stops');
    else if (deviceTouch(old, device) === 'restarts' || !isLinkKept(old, device)) add('restarts');
    else if (!sameDocument(old.points, device.points)) add('listChanges');
    else add(deviceTouch(old, device) === 'adopted' ? 'adopts' : 'goesOn');
  }
  const codes = new Set(after.devices.map(({ code }) => code));
  for (const device of before.devices)
    if (!codes.has(device.code) && isCollected(device))
      effects.push({ kind: 'device', code: device.code, name: device.name, effect: 'stops' });
  const outboundsBefore = new Map(before.outbounds.map((outbound) => [outbound.code, outbound]));
  for (const outbound of after.outbounds) {
    const old = outboundsBefore.get(outbound.code);
    const effect = ((): Effect => {
      if (old === undefined) return 'starts';
      const touch = outboundTouch(old, outbound);
      if (touch === 'restarts' || !isLinkKept(old, outbound)) return 'restarts';
      if (!sameDocument(old.mappings, outbound.mappings)) return 'listChanges';
      return touch === 'adopted' ? 'adopts' : 'goesOn';
    })();
    effects.push({ kind: 'outbound', code: outbound.code, name: outbound.centre, effect });
  }
  for (const { code, centre } of before.outbounds)
    if (!after.outbounds.some((outbound) => outbound.code === code))
      effects.push({ kind: 'outbound', code, name: centre, effect: 'stops' });
  return effects;
}
