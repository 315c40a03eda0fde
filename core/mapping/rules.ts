import type { DraftPoint, MappingConfig } from '../config/index.ts';
import { DEFAULT_VARIATIONS, mappingProblem, targetKinds } from '../protocols/dnp3/index.ts';
import { addressOf, inAddressOrder } from '../protocols/definitions.ts';
import { addressWords, POINT_KINDS, type PointKind } from '../point/index.ts';
import type { ScaledPoint } from '../point/index.ts';

/** A point that may be mapped. */
export interface Source extends ScaledPoint {
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
  /** Event class there; `usual`: 1 for states, 2 for analogs, 3 for counters, none for controls. */
  eventClass: 0 | 1 | 2 | 3 | 'usual';
}

export const USUAL_CLASS: Record<PointKind, 0 | 1 | 2 | 3> = {
  binary: 1,
  doubleBit: 1,
  output: 0,
  analog: 2,
  counter: 3,
  setpoint: 2,
  frozenCounter: 3,
  text: 3,
};

export interface RuleRow {
  source: Source;
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

/** A mapping of one point to one address, with the objects that are usual there. */
export function mappingTo(
  source: Pick<Source, 'device' | 'kind' | 'at'>,
  kind: PointKind,
  index: number,
  value: 'raw' | 'engineering',
  eventClass: MappingRule['eventClass'],
): MappingConfig {
  const variations = DEFAULT_VARIATIONS[kind];
  // Engineering values have a fraction: single-precision floating point with flags, and with time for events.
  const floating = value === 'engineering' && (kind === 'analog' || kind === 'setpoint');
  const chosen = eventClass === 'usual' ? USUAL_CLASS[kind] : eventClass;
  return {
    device: source.device,
    point: addressOf(source),
    target: {
      kind,
      at: {
        protocol: 'dnp3',
        index,
        eventClass: kind === 'output' ? 0 : chosen,
        staticVariation: floating ? (kind === 'analog' ? 5 : 3) : variations.static,
        eventVariation: floating ? 7 : variations.event,
      },
      deadband: null,
      mayControl: true,
      value,
    },
  };
}

/** What a rule would make of the points, given what is mapped already. */
export function applyRule(
  rule: MappingRule,
  sources: readonly Source[],
  mapped: readonly MappingConfig[],
): RulePreview {
  const taken = new Set(mapped.map(({ target }) => addressOf(target)));
  const already = new Map(mapped.map((m) => [`${m.device} ${m.point}`, m] as const));
  const matches = matcher(rule.pattern);
  const kinds = new Set<PointKind>(rule.kinds.length > 0 ? rule.kinds : POINT_KINDS);
  const next = new Map<PointKind, number>();
  const preview: RulePreview = { rows: [], counts: { new: 0, mapped: 0, misfit: 0 } };
  const add = (row: RuleRow): void => {
    preview.rows.push(row);
    preview.counts[row.state]++;
  };
  const chosen = sources
    .filter((source) => kinds.has(source.kind) && matches(`${source.device} ${source.name}`))
    .sort((a, b) => (a.device < b.device ? -1 : a.device > b.device ? 1 : 0) || inAddressOrder(a, b));
  for (const source of chosen) {
    if (source.at.index === null) {
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
    if (!targetKinds(source.kind).includes(kind)) {
      const target = { ...mappingTo(source, kind, 0, rule.value, rule.eventClass).target };
      add({ source, mapping: null, state: 'misfit', words: mappingProblem(source, target)?.words ?? 'another kind' });
      continue;
    }
    let index = rule.numbering === 'keep' ? source.at.index + rule.start : (next.get(kind) ?? rule.start);
    if (rule.numbering === 'series') {
      while (taken.has(addressWords(kind, index))) index++;
      next.set(kind, index + 1);
    }
    if (index < 0 || index > 65535) {
      add({ source, mapping: null, state: 'misfit', words: `address ${index} is beyond 0 to 65535` });
      continue;
    }
    if (taken.has(addressWords(kind, index))) {
      add({
        source,
        mapping: null,
        state: 'misfit',
        words: `${addressWords(kind, index)} is taken there already`,
      });
      continue;
    }
    taken.add(addressWords(kind, index));
    const mapping = mappingTo(source, kind, index, rule.value, rule.eventClass);
    const misfit = mappingProblem(source, mapping.target);
    add({ source, mapping, state: 'new', words: misfit?.words ?? '' });
  }
  return preview;
}
