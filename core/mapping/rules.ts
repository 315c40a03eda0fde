import { misfitOf, valueAt, type DraftPoint, type MappingConfig } from '../config/index.ts';
import {
  addressOf,
  inAddressOrder,
  targetsOf,
  pointsOf,
  type OutboundSettings,
  type ProtocolCode,
  type TargetPointAt,
} from '../protocols/index.ts';
import { KIND_WORDS, POINT_KINDS, targetKinds, type PointKind, type ScaledPoint } from '../point/index.ts';

/** A point that may be mapped. */
export interface MappingSource extends ScaledPoint {
  device: string;
  kind: PointKind;
  at: DraftPoint['at'];
  name: string;
}

/**
 * A rule that makes mappings: which points, and where they go. It is carried out once; what it made stays as it is,
 * so that an address that a centre knows never moves by itself.
 */
export interface MappingRule {
  /** Pattern on `DEVICE name`: `*` any characters, `?` one; empty: all. Several, with commas between. */
  pattern: string;
  /** Kinds that it takes; empty: all. */
  kinds: readonly PointKind[];
  /** What they become: the same kind, or this one. */
  targetKind: PointKind | 'same';
  /** `keep`: the address they have, moved by `start`; `series`: numbers from `start` on, a series a kind. */
  numbering: 'keep' | 'series';
  start: number;
  value: 'raw' | 'engineering';
  /** What the protocol there wants to know beside, by the paths of its `ruleFields`; absent: as is usual. */
  choices: Readonly<Record<string, string>>;
}

export interface RuleRow {
  source: MappingSource;
  /** What is to be made; null when it does not fit. */
  mapping: MappingConfig | null;
  state: 'new' | 'mapped' | 'misfit';
  words: string;
}

export interface RulePreview {
  rows: RuleRow[];
  counts: Record<RuleRow['state'], number>;
}

/** The pattern as a test of a text; capital letters do not matter. */
export function matcher(pattern: string): (text: string) => boolean {
  const parts = pattern
    .split(',')
    .map((part) => part.trim())
    .filter((part) => part !== '');
  if (parts.length === 0) return () => true;
  const tests = parts.map((part) => wildcard(part.toLowerCase()));
  return (text) => {
    const lower = text.toLowerCase();
    return tests.some((test) => test(lower));
  };
}

/** `*` and `?` without a regular expression: linear in the text for any pattern. */
function wildcard(pattern: string): (text: string) => boolean {
  return (text) => {
    let [t, p, star, mark] = [0, 0, -1, 0];
    while (t < text.length) {
      if (p < pattern.length && (pattern[p] === '?' || pattern[p] === text[t])) {
        t++;
        p++;
      } else if (p < pattern.length && pattern[p] === '*') {
        star = p++;
        mark = t;
      } else if (star >= 0) {
        p = star + 1;
        t = ++mark;
      } else return false;
    }
    while (pattern[p] === '*') p++;
    return p === pattern.length;
  };
}

/** A mapping of one point to one address, offered in the form that is usual there. */
export const mappingTo = (
  source: Pick<MappingSource, 'device' | 'kind' | 'at'>,
  protocol: ProtocolCode,
  kind: PointKind,
  number: number,
  value: 'raw' | 'engineering',
  choices: MappingRule['choices'] = {},
): MappingConfig => ({
  device: source.device,
  point: addressOf(source),
  target: {
    kind,
    at: targetsOf(protocol).propose(kind, number, value, choices, {
      device: source.device,
      point: addressOf(source),
    }),
    deadband: null,
    mayControl: true,
    value,
  },
});

/** The numbering that gives every point a place: the addresses that they have, or a series where two would meet. */
export function usualNumbering(
  rule: MappingRule,
  protocol: ProtocolCode,
  sources: readonly MappingSource[],
  mapped: readonly MappingConfig[],
  settings: OutboundSettings | null = null,
): MappingRule['numbering'] {
  const misfits = (numbering: MappingRule['numbering']): number =>
    applyRule({ ...rule, numbering, start: 0 }, protocol, sources, mapped, settings).counts.misfit;
  return mapped.length === 0 && misfits('keep') <= misfits('series') ? 'keep' : 'series';
}

/** Mappings of all points that can be offered. */
export function everyPoint(
  protocol: ProtocolCode,
  sources: readonly MappingSource[],
  value: MappingRule['value'],
  settings: OutboundSettings | null = null,
): MappingConfig[] {
  const rule: MappingRule = {
    ...{ pattern: '', kinds: [], targetKind: 'same', numbering: 'keep', start: 0, value, choices: {} },
  };
  const numbering = usualNumbering(rule, protocol, sources, [], settings);
  return applyRule({ ...rule, numbering }, protocol, sources, [], settings).rows.flatMap(
    ({ mapping }) => mapping ?? [],
  );
}

/** Places of a kind in an outbound that has so many and no more, as far as a rule takes them; null: it has any. */
function placesFor(
  protocol: ProtocolCode,
  settings: OutboundSettings | null,
  kind: PointKind,
  source: MappingSource,
  choices: MappingRule['choices'],
): readonly { at: TargetPointAt; own: boolean }[] | null {
  const all = settings === null ? null : (targetsOf(protocol).places?.(settings, kind, addressOf(source)) ?? null);
  const chosen = Object.entries(choices).filter(([, wanted]) => wanted.trim() !== '');
  if (all === null) return null;
  return all.filter(({ at }) => chosen.every(([path, wanted]) => valueAt(at, path) === wanted.trim()));
}

/** What a rule would make of the points, given what is mapped already; `settings`: of the outbound, where they are known. */
export function applyRule(
  rule: MappingRule,
  protocol: ProtocolCode,
  sources: readonly MappingSource[],
  mapped: readonly MappingConfig[],
  settings: OutboundSettings | null = null,
): RulePreview {
  const { series, number, width, highest } = targetsOf(protocol);
  /** What is taken, number by number of each series. */
  const taken = new Map<string, string>();
  const take = (target: MappingConfig['target']): void => {
    for (let n = 0; n < width(target); n++) taken.set(`${series(target)} ${number(target.at) + n}`, addressOf(target));
  };
  const takenBy = (target: MappingConfig['target'], at: number): string | undefined => {
    for (let n = 0; n < width(target); n++) {
      const by = taken.get(`${series(target)} ${at + n}`);
      if (by !== undefined) return by;
    }
    return undefined;
  };
  for (const { target } of mapped) take(target);
  const used = new Set(mapped.map(({ target }) => addressOf(target)));
  const already = new Map(mapped.map((m) => [`${m.device} ${m.point}`, m] as const));
  const matches = matcher(rule.pattern);
  const kinds = new Set<PointKind>(rule.kinds.length > 0 ? rule.kinds : POINT_KINDS);
  const next = new Map<string, number>();
  const preview: RulePreview = { rows: [], counts: { new: 0, mapped: 0, misfit: 0 } };
  const add = (row: RuleRow): void => {
    preview.rows.push(row);
    preview.counts[row.state]++;
  };
  const chosen = sources
    .filter((source) => kinds.has(source.kind) && matches(`${source.device} ${source.name}`))
    .sort((a, b) => (a.device < b.device ? -1 : a.device > b.device ? 1 : 0) || inAddressOrder(a, b));
  // What a point is itself is kept for it, whoever comes first.
  const owns = new Map<MappingSource, TargetPointAt>();
  for (const source of chosen) {
    const kind = rule.targetKind === 'same' ? source.kind : rule.targetKind;
    if (already.has(`${source.device} ${addressOf(source)}`) || !targetKinds(source.kind).includes(kind)) continue;
    const own = placesFor(protocol, settings, kind, source, rule.choices)?.find((one) => one.own)?.at;
    if (own === undefined || used.has(addressOf({ kind, at: own }))) continue;
    owns.set(source, own);
    used.add(addressOf({ kind, at: own }));
  }
  for (const source of chosen) {
    const own = pointsOf(source.at.protocol).number(source.at);
    if (addressOf(source) === '') {
      add({ source, mapping: null, state: 'misfit', words: 'it has no address' });
      continue;
    }
    const known = already.get(`${source.device} ${addressOf(source)}`);
    if (known) {
      add({
        source,
        mapping: known,
        state: 'mapped',
        words: `is mapped already, to ${addressOf(known.target)}`,
      });
      continue;
    }
    const kind = rule.targetKind === 'same' ? source.kind : rule.targetKind;
    const mappingAt = (at: number): MappingConfig => mappingTo(source, protocol, kind, at, rule.value, rule.choices);
    const { target } = mappingAt(0);
    if (!targetKinds(source.kind).includes(kind)) {
      add({ source, mapping: null, state: 'misfit', words: misfitOf(source, { target })?.words ?? 'another kind' });
      continue;
    }
    const places = placesFor(protocol, settings, kind, source, rule.choices);
    if (places !== null) {
      const own = owns.get(source);
      const at = own ?? places.find((one) => !used.has(addressOf({ kind, at: one.at })))?.at;
      if (at === undefined) {
        add({ source, mapping: null, state: 'misfit', words: `no place is left there for a ${KIND_WORDS[kind].one}` });
        continue;
      }
      const mapping = mappingTo(source, protocol, kind, 0, rule.value, rule.choices);
      mapping.target.at = at;
      used.add(addressOf(mapping.target));
      add({ source, mapping, state: 'new', words: misfitOf(source, mapping)?.words ?? '' });
      continue;
    }
    // Where addresses are no numbers there is none to keep.
    const keeps = rule.numbering === 'keep' && own !== null;
    let at = keeps ? own + rule.start : (next.get(series(target)) ?? Math.max(0, rule.start));
    if (!keeps) {
      while (at <= highest && takenBy(target, at) !== undefined) at++;
      next.set(series(target), at + width(target));
    }
    if (at < 0 || at + width(target) - 1 > highest) {
      add({ source, mapping: null, state: 'misfit', words: `address ${at} is beyond 0 to ${highest}` });
      continue;
    }
    const by = takenBy(target, at);
    if (by !== undefined) {
      add({ source, mapping: null, state: 'misfit', words: `${by} is taken there already` });
      continue;
    }
    const mapping = mappingAt(at);
    take(mapping.target);
    add({ source, mapping, state: 'new', words: misfitOf(source, mapping)?.words ?? '' });
  }
  return preview;
}
