import type { DraftPoint } from '../config/index.ts';
import { newPoint } from '../pointlist/index.ts';
import { isScaled, KIND_WORDS, POINT_KINDS, type Operation, type PointKind } from '../point/index.ts';
import {
  type SurveyedPoint,
  addressOf,
  inAddressOrder,
  readAddress,
  type ProtocolCode,
  pointsOf,
} from '../protocols/index.ts';

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
  const answered = new Set(surveyed.map(({ address }) => address));
  const listed = new Set(list.map(addressOf));
  const [first] = list;
  const unlisted = surveyed.filter(({ address }) => !listed.has(address));
  if (first !== undefined) sortByAddress(unlisted, first.at.protocol);
  const missing = list.filter((point) => addressOf(point) !== '' && !answered.has(addressOf(point)));
  const otherKind = missing.flatMap((point) => {
    const { number } = pointsOf(point.at.protocol);
    // Where addresses are no numbers, nothing is at the same one under another kind.
    if (number(point.at) === null) return [];
    const answers = unlisted.find(({ kind, address }) => {
      const read = LIKE[kind] === LIKE[point.kind] ? readAddress(point.at.protocol, address) : null;
      return read !== null && number(read.at) === number(point.at);
    });
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

function sortByAddress(points: SurveyedPoint[], protocol: ProtocolCode): void {
  const places = new Map(points.map((point) => [point, readAddress(protocol, point.address)] as const));
  points.sort((a, b) => {
    const [one, other] = [places.get(a), places.get(b)];
    return one && other ? inAddressOrder({ ...one, kind: a.kind }, { ...other, kind: b.kind }) : 0;
  });
}

/** A point as its device, or a file about it, tells of it. */
export interface ToldPoint {
  kind: PointKind;
  address: string;
  name?: string;
  unit?: string;
  operations?: readonly Operation[];
}

/** Points for the list: named as they are called there, or by their address until somebody names them. */
export const pointsFromSurvey = (told: readonly ToldPoint[], protocol: ProtocolCode): DraftPoint[] =>
  told.flatMap(({ kind, address, name, unit, operations }) => {
    const read = readAddress(protocol, address);
    if (read === null) return [];
    const number = pointsOf(protocol).number(read.at);
    const usual = number === null ? address : `${KIND_WORDS[kind].one} ${number}`;
    const point = newPoint(protocol, kind, null, (name || usual).slice(0, MOST_NAME));
    const control = point.control && operations ? { ...point.control, operations: [...operations] } : point.control;
    return [{ ...point, at: read.at, control, unit: isScaled(kind) ? (unit ?? '').slice(0, MOST_UNIT) : '' }];
  });
const MOST_NAME = 80;
const MOST_UNIT = 16;

export const surveyWords = ({ address, form, words }: SurveyedPoint): string => `${address} (${words ?? form})`;
