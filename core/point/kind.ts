/** The kinds of points whose values are numbers, in the order in which lists show them. */
export const POINT_KINDS = ['binary', 'doubleBit', 'output', 'analog', 'counter', 'setpoint', 'frozenCounter'] as const;
export type PointKind = (typeof POINT_KINDS)[number];

/** The kinds that a point list may hold. Texts are listed; no session here reads them yet. */
export const LIST_KINDS = [...POINT_KINDS, 'text'] as const;
export type ListKind = (typeof LIST_KINDS)[number];

export const isValueKind = (kind: ListKind): kind is PointKind => kind !== 'text';

export const KIND_WORDS: Record<ListKind, { short: string; one: string; many: string }> = {
  binary: { short: 'BI', one: 'binary input', many: 'binary inputs' },
  doubleBit: { short: 'DBI', one: 'double-bit input', many: 'double-bit inputs' },
  output: { short: 'BO', one: 'binary control', many: 'binary controls' },
  analog: { short: 'AI', one: 'analog input', many: 'analog inputs' },
  counter: { short: 'CT', one: 'counter', many: 'counters' },
  setpoint: { short: 'AO', one: 'analog setpoint', many: 'analog setpoints' },
  frozenCounter: { short: 'FC', one: 'frozen counter', many: 'frozen counters' },
  text: { short: 'OS', one: 'text', many: 'texts' },
};

export const kindRank = (kind: ListKind): number => LIST_KINDS.indexOf(kind);

/** Kinds whose values are numbers on a scale: they have units, scaling, deadband and limits. */
export const isScaled = (kind: ListKind): boolean =>
  kind === 'analog' || kind === 'counter' || kind === 'setpoint' || kind === 'frozenCounter';

/** Kinds whose values are states with words. */
export const hasStates = (kind: ListKind): boolean => kind === 'binary' || kind === 'doubleBit' || kind === 'output';

/** A point's address as people say it: `AI 7`. */
export const addressWords = (kind: ListKind, index: number): string => `${KIND_WORDS[kind].short} ${index}`;

/** Other words for the kinds that lists from elsewhere use (common practice). */
const KIND_ALIASES: Record<ListKind, readonly string[]> = {
  binary: ['bi', 'di', 'binary', 'binary input', 'digital input', 'single point', 'status', 'sps'],
  doubleBit: ['dbi', 'double', 'double-bit', 'double bit', 'double-bit input', 'double point', 'dps'],
  output: ['bo', 'do', 'binary control', 'binary output', 'digital output', 'control', 'crob', 'spc', 'dpc'],
  analog: ['ai', 'analog', 'analogue', 'analog input', 'analogue input', 'measurement', 'mv'],
  counter: ['ct', 'ci', 'counter', 'accumulator', 'pulse counter', 'bcr'],
  setpoint: ['ao', 'analog output', 'analogue output', 'setpoint', 'set point', 'analog setpoint', 'apc'],
  frozenCounter: ['fc', 'frozen', 'frozen counter'],
  text: ['os', 'text', 'string', 'octet string'],
};
const BY_ALIAS = new Map(
  LIST_KINDS.flatMap((kind) =>
    [kind.toLowerCase(), KIND_WORDS[kind].many, ...KIND_ALIASES[kind]].map((alias) => [alias, kind] as const),
  ),
);

/** The kind that a word means; undefined when none is known. */
export const kindOf = (word: string): ListKind | undefined => BY_ALIAS.get(word.trim().toLowerCase());
