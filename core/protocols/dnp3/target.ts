import {
  addressWords,
  isScaled,
  KIND_WORDS,
  Quality,
  scaledValue,
  type PointKind,
  type ScaledPoint,
} from '../../point/index.ts';
import type { Dnp3DraftAt, Dnp3TargetAt } from './points.ts';

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
/** Whether a centre may send something to it. */
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

export interface MappingTarget {
  kind: PointKind;
  at: Dnp3TargetAt;
  value: 'raw' | 'engineering';
}

/** Whole numbers that an object can hold, by group and variation (IEEE 1815, annex A). */
const WHOLE: Partial<Record<string, readonly [number, number]>> = {
  '30 1': [-0x8000_0000, 0x7fff_ffff],
  '30 2': [-0x8000, 0x7fff],
  '30 3': [-0x8000_0000, 0x7fff_ffff],
  '30 4': [-0x8000, 0x7fff],
};

/** Why a point does not fit its target; null when it does. */
export function mappingProblem(
  point: ScaledPoint & { kind: PointKind; at: Dnp3DraftAt },
  target: MappingTarget,
): { severity: 'problem' | 'warning'; words: string } | null {
  const source = addressWords(point.kind, point.at.index ?? 0);
  const { staticVariation } = target.at;
  if (!TARGETS[point.kind].includes(target.kind))
    return {
      severity: 'problem',
      words: `${source} is of another kind: a ${KIND_WORDS[point.kind].one} cannot become a ${KIND_WORDS[target.kind].one}`,
    };
  const limits = target.kind === 'analog' ? WHOLE[`30 ${staticVariation}`] : undefined;
  const { pairs } = point;
  if (limits !== undefined && pairs !== null) {
    const [low, high] = target.value === 'engineering' ? [pairs.low, pairs.high] : [pairs.rawLow, pairs.rawHigh];
    const [bottom, top] = [Math.min(low, high), Math.max(low, high)];
    if (bottom < limits[0] || top > limits[1])
      return {
        severity: 'warning',
        words: `its range ${bottom} to ${top} does not fit g30v${staticVariation}, which holds ${limits[0]} to ${limits[1]}`,
      };
    if (target.value === 'engineering' && top - bottom < 100)
      return {
        severity: 'warning',
        words: `whole numbers of a range from ${bottom} to ${top} are coarse: choose a floating-point variation`,
      };
  }
  return null;
}
