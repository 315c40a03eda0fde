import type { DraftPoint } from '../config/index.ts';
import { newPoint } from '../pointlist/index.ts';
import { addressWords, kindRank, KIND_WORDS, POINT_KINDS, type PointKind } from '../point/index.ts';

/** One point that a device answered with. */
export interface SurveyedPoint {
  kind: PointKind;
  index: number;
  group: number;
  variation: number;
  value: number;
  flags: number;
}

export interface SurveyComparison {
  /** Answers, and is not in the list. */
  unlisted: SurveyedPoint[];
  /** Is in the list, and does not answer. */
  silent: DraftPoint[];
  /** Listed under another kind with the same address, and that kind does not answer there. */
  otherKind: { point: DraftPoint; answers: SurveyedPoint }[];
  /** How many there are, kind by kind. */
  counts: { kind: PointKind; listed: number; answered: number }[];
}

/** Compares what a device answers with what its list says. */
export function compareSurvey(surveyed: readonly SurveyedPoint[], list: readonly DraftPoint[]): SurveyComparison {
  const answered = new Map(surveyed.map((point) => [`${point.kind} ${point.index}`, point]));
  const listed = new Map(list.map((point) => [`${point.kind} ${point.at.index}`, point]));
  const order = (a: { kind: PointKind; index: number }, b: { kind: PointKind; index: number }): number =>
    kindRank(a.kind) - kindRank(b.kind) || a.index - b.index;
  const unlisted = surveyed.filter((point) => !listed.has(`${point.kind} ${point.index}`)).sort(order);
  const missing = list.filter((point) => point.at.index !== null && !answered.has(`${point.kind} ${point.at.index}`));
  const otherKind = missing.flatMap((point) => {
    const answers = unlisted.find(({ kind, index }) => index === point.at.index && LIKE[kind] === LIKE[point.kind]);
    return answers ? [{ point, answers }] : [];
  });
  const taken = new Set(otherKind.map(({ point }) => point));
  const takenAnswers = new Set(otherKind.map(({ answers }) => answers));
  return {
    unlisted: unlisted.filter((point) => !takenAnswers.has(point)),
    silent: missing.filter((point) => !taken.has(point)),
    otherKind,
    counts: POINT_KINDS.map((kind) => ({
      kind,
      listed: list.filter((point) => point.kind === kind).length,
      answered: surveyed.filter((point) => point.kind === kind).length,
    })).filter(({ listed: a, answered: b }) => a > 0 || b > 0),
  };
}

/** Kinds that are easily taken for each other. */
const LIKE: Record<DraftPoint['kind'], string> = {
  binary: 'state',
  doubleBit: 'state',
  output: 'control',
  analog: 'number',
  counter: 'number',
  setpoint: 'setpoint',
  frozenCounter: 'number',
  text: 'text',
};

/** Points for the list, named by their address until somebody names them. */
export const pointsFromSurvey = (surveyed: readonly SurveyedPoint[]): DraftPoint[] =>
  surveyed.map(({ kind, index }) => newPoint(kind, index, `${KIND_WORDS[kind].one} ${index}`));

export const surveyWords = ({ kind, index, group, variation }: SurveyedPoint): string =>
  `${addressWords(kind, index)} (g${group}v${variation})`;
