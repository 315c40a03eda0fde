export {
  POINT_KINDS,
  KIND_WORDS,
  kindRank,
  kindOf,
  isScaled,
  hasStates,
  addressWords,
  type PointKind,
} from './kind.ts';
export { INVALID, Quality, validity, qualityWords, isForced, type Validity } from './quality.ts';
export { measuredNumber, numberOnWire } from './measurednumber.ts';
export { CAUSES, TIME_SOURCES, TIME_SOURCE_WORDS, type Cause, type Reading, type TimeSource } from './reading.ts';
export {
  RANGE_CHECKS,
  scale,
  rawValue,
  scaledValue,
  wholeOf,
  isPlain,
  scalingOf,
  lineThrough,
  rangeQuality,
  spanOf,
  decimals,
  type RangeCheck,
  type ScaledPoint,
  type Scaling,
  type ScalingPairs,
} from './scaling.ts';
export { deadbandInUnits, deadbandInCounts, exceedsDeadband, type Deadband } from './deadband.ts';
export { LIMIT_LEVELS, LEVEL_WORDS, LimitWatch, inOrder, type LimitLevel, type Limits } from './limits.ts';
export { OPERATIONS, OPERATION_WORDS, operationOf, stateAfter, switchesOn, type Operation } from './operation.ts';
export { converted, isControl, kindProblem, targetKinds, type Handed } from './become.ts';
