export { POINT_KINDS, KIND_WORDS, kindRank, addressWords, type PointKind } from './kind.ts';
export { Quality, validity, qualityWords, isForced, type Validity } from './quality.ts';
export { CAUSES, TIME_SOURCES, TIME_SOURCE_WORDS, type Cause, type Reading, type TimeSource } from './reading.ts';
export { scale, decimals, type Scaling } from './scaling.ts';
export { ReplayGuard, eventKey } from './replay.ts';
