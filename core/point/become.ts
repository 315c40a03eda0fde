import { isScaled, KIND_WORDS, type PointKind } from './kind.ts';
import { Quality } from './quality.ts';
import { scaledValue, type ScaledPoint } from './scaling.ts';

/**
 * Which kinds a point may become towards a centre, its own first.
 *
 * - A state may become an analog or another state; a double-bit becomes a single bit only where it is off or on.
 * - A number never becomes a state, and nothing but a binary control becomes one: a control has to have somewhere to go.
 */
const TARGETS: Record<PointKind, readonly PointKind[]> = {
  binary: ['binary', 'doubleBit', 'analog'],
  doubleBit: ['doubleBit', 'binary', 'analog'],
  output: ['output', 'binary'],
  analog: ['analog'],
  counter: ['counter', 'analog'],
  setpoint: ['setpoint', 'analog'],
  frozenCounter: ['frozenCounter', 'counter', 'analog'],
  text: ['text'],
};

export const targetKinds = (kind: PointKind): readonly PointKind[] => TARGETS[kind];
/** Whether it is there to be sent something. A text may be written as well, where its list says so (`setting`). */
export const isControl = (kind: PointKind): boolean => kind === 'output' || kind === 'setpoint';

export interface Handed {
  value: number;
  quality: number;
}

/** Double-bit states (IEEE 1815, annex A, group 3): 0 intermediate, 1 off, 2 on, 3 indeterminate. */
const DOUBLE_OFF = 1;
const DOUBLE_ON = 2;

/** The value as the centre gets it, from raw or engineering value, with the quality that the conversion leaves. */
export function converted(
  from: PointKind,
  to: PointKind,
  raw: number,
  quality: number,
  point: ScaledPoint,
  value: 'raw' | 'engineering',
): Handed {
  if (from === to && value === 'raw') return { value: raw, quality };
  if (from === 'binary' && to === 'doubleBit') return { value: raw ? DOUBLE_ON : DOUBLE_OFF, quality };
  if (from === 'doubleBit' && to === 'binary') {
    // Neither off nor on: the single bit cannot say so, its quality does.
    const settled = raw === DOUBLE_OFF || raw === DOUBLE_ON;
    return { value: raw === DOUBLE_ON ? 1 : 0, quality: settled ? quality : quality | Quality.chatter };
  }
  if (value === 'engineering' && isScaled(from)) return { value: scaledValue(raw, point), quality };
  return { value: raw, quality };
}

/** Why a point of one kind cannot be shown as another; null when it can. */
export const kindProblem = (from: PointKind, to: PointKind): string | null =>
  TARGETS[from].includes(to) ? null : `a ${KIND_WORDS[from].one} cannot become a ${KIND_WORDS[to].one}`;
