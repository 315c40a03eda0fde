/** The kinds of points, in the order in which lists show them. */
export const POINT_KINDS = ['binary', 'doubleBit', 'output', 'analog', 'counter'] as const;
export type PointKind = (typeof POINT_KINDS)[number];

export const KIND_WORDS: Record<PointKind, { short: string; one: string; many: string }> = {
  binary: { short: 'BI', one: 'binary input', many: 'binary inputs' },
  doubleBit: { short: 'DBI', one: 'double-bit input', many: 'double-bit inputs' },
  output: { short: 'BO', one: 'binary output', many: 'binary outputs' },
  analog: { short: 'AI', one: 'analog input', many: 'analog inputs' },
  counter: { short: 'CT', one: 'counter', many: 'counters' },
};

export const kindRank = (kind: PointKind): number => POINT_KINDS.indexOf(kind);

/** A point's address as people say it: `AI 7`. */
export const addressWords = (kind: PointKind, index: number): string => `${KIND_WORDS[kind].short} ${index}`;
