/** The kinds of points, in the order in which lists show them. The value of a text is its octets; its number is 0. */
export const POINT_KINDS = [
  'binary',
  'doubleBit',
  'output',
  'analog',
  'counter',
  'setpoint',
  'frozenCounter',
  'text',
] as const;
export type PointKind = (typeof POINT_KINDS)[number];

export const KIND_WORDS: Record<PointKind, { short: string; one: string; many: string }> = {
  binary: { short: 'BI', one: 'binary input', many: 'binary inputs' },
  doubleBit: { short: 'DBI', one: 'double-bit input', many: 'double-bit inputs' },
  output: { short: 'BO', one: 'binary control', many: 'binary controls' },
  analog: { short: 'AI', one: 'analog input', many: 'analog inputs' },
  counter: { short: 'CT', one: 'counter', many: 'counters' },
  setpoint: { short: 'AO', one: 'analog setpoint', many: 'analog setpoints' },
  frozenCounter: { short: 'FC', one: 'frozen counter', many: 'frozen counters' },
  text: { short: 'OS', one: 'text', many: 'texts' },
};

export const kindRank = (kind: PointKind): number => POINT_KINDS.indexOf(kind);

/** Kinds whose values are numbers on a scale: they have units, scaling, deadband and limits. */
export const isScaled = (kind: PointKind): boolean =>
  kind === 'analog' || kind === 'counter' || kind === 'setpoint' || kind === 'frozenCounter';

/** Kinds whose values are states with words. */
export const hasStates = (kind: PointKind): boolean => kind === 'binary' || kind === 'doubleBit' || kind === 'output';

/** A point's address as people say it: `AI 7`. */
export const addressWords = (kind: PointKind, index: number): string => `${KIND_WORDS[kind].short} ${index}`;

/** Other words for the kinds that lists from elsewhere use (common practice). */
const KIND_ALIASES: Record<PointKind, readonly string[]> = {
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
  POINT_KINDS.flatMap((kind) =>
    [kind.toLowerCase(), KIND_WORDS[kind].many, ...KIND_ALIASES[kind]].map((alias) => [alias, kind] as const),
  ),
);

/** The kind that a word means; undefined when none is known. */
export const kindOf = (word: string): PointKind | undefined => BY_ALIAS.get(word.trim().toLowerCase());
