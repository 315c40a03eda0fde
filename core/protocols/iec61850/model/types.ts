import type { TypeOf } from '../../mms/wire/data.ts';
import { isEnhanced, isSelected, type ControlModel } from '../control.ts';
import type { Constraint } from './reference.ts';

/* What a data object of a common data class has (IEC 61850-7-3, clause 7; from memory), where we make one ourselves. */

const BOOLEAN: TypeOf = { type: 'boolean' };
const INT8: TypeOf = { type: 'integer', bits: 8 };
const INT32: TypeOf = { type: 'integer', bits: 32 };
const INT64: TypeOf = { type: 'integer', bits: 64 };
const UINT8: TypeOf = { type: 'unsigned', bits: 8 };
const UINT32: TypeOf = { type: 'unsigned', bits: 32 };
const FLOAT: TypeOf = { type: 'float', width: 32, exponent: 8 };
const TEXT: TypeOf = { type: 'text', size: -255 };
const NAME: TypeOf = { type: 'text', size: -129 };
const WIDE: TypeOf = { type: 'wideText', size: -255 };
const QUALITY: TypeOf = { type: 'bits', size: -13 };
const STAMP: TypeOf = { type: 'utcTime' };
const TWO_BITS: TypeOf = { type: 'bits', size: 2 };

export const structure = (...components: readonly (readonly [string, TypeOf])[]): TypeOf => ({
  type: 'structure',
  components: components.map(([name, of]) => ({ name, of })),
});
const stamped = (...components: readonly (readonly [string, TypeOf])[]): TypeOf =>
  structure(...components, ['q', QUALITY], ['t', STAMP]);
const ANALOG = structure(['f', FLOAT]);
const ORIGIN = structure(['orCat', INT8], ['orIdent', { type: 'octets', size: -64 }]);
const UNITS = structure(['SIUnit', INT8], ['multiplier', INT8]);

/** The parts of a data object, by functional constraint. */
export type Parts = Partial<Record<Constraint, TypeOf>>;

const operate = (value: TypeOf, withCheck: boolean): TypeOf =>
  structure(
    ['ctlVal', value],
    ['origin', ORIGIN],
    ['ctlNum', UINT8],
    ['T', STAMP],
    ['Test', BOOLEAN],
    ...(withCheck ? [['Check', { type: 'bits', size: -2 }] as const] : []),
  );

/** What is written to operate something by a model. */
function controlled(value: TypeOf, model: ControlModel): TypeOf {
  const oper = ['Oper', operate(value, true)] as const;
  const cancel = ['Cancel', operate(value, false)] as const;
  if (!isSelected(model)) return structure(oper, cancel);
  return isEnhanced(model)
    ? structure(['SBOw', operate(value, true)], oper, cancel)
    : structure(['SBO', NAME], oper, cancel);
}
const CONTROL_CF = [
  ['ctlModel', INT8],
  ['sboTimeout', UINT32],
] as const;

const PHASES = ['phsA', 'phsB', 'phsC'] as const;
const VECTOR = stamped(['cVal', structure(['mag', ANALOG], ['ang', ANALOG])]);

/** What a data object may have beside its value. */
export interface Beside {
  /** Of a setting: it is one of a setting group. */
  isGrouped?: boolean;
  /** A client may replace its value, or hold it. */
  isReplaceable?: boolean;
}

/** The parts of a data object of a class that we make ourselves; the others are for reading (see `cdc.ts`). */
export function partsOf(cdc: string, model: ControlModel, { isGrouped, isReplaceable }: Beside = {}): Parts {
  const { SP, ...parts } = plainParts(cdc, model);
  const own: Parts = SP === undefined ? parts : isGrouped ? { ...parts, SG: SP } : { ...parts, SP };
  if (!isReplaceable) return own;
  const value = SUBSTITUTES[cdc];
  if (value === undefined) throw new Error(`the value of a ${cdc} is not replaced here`);
  return {
    ...own,
    SV: structure(['subEna', BOOLEAN], value, ['subQ', QUALITY], ['subID', { type: 'text', size: -64 }]),
    BL: structure(['blkEna', BOOLEAN]),
  };
}
const SUBSTITUTES: Record<string, readonly [string, TypeOf] | undefined> = {
  SPS: ['subVal', BOOLEAN],
  DPS: ['subVal', TWO_BITS],
  INS: ['subVal', INT32],
  MV: ['subMag', ANALOG],
};

function plainParts(cdc: string, model: ControlModel): Parts {
  const DC = structure(['d', TEXT], ['dU', WIDE]);
  const isOperated = model !== 'statusOnly';
  const of = (
    fc: 'ST' | 'MX',
    value: readonly (readonly [string, TypeOf])[],
    ctlVal: TypeOf,
    units = false,
  ): Parts => ({
    [fc]: isOperated ? stamped(['origin', ORIGIN], ['ctlNum', UINT8], ...value) : stamped(...value),
    CF: structure(...(units ? [['units', UNITS] as const] : []), ...CONTROL_CF),
    DC,
    ...(isOperated ? { CO: controlled(ctlVal, model) } : {}),
  });
  switch (cdc) {
    case 'SPS':
      return { ST: stamped(['stVal', BOOLEAN]), DC };
    case 'DPS':
      return { ST: stamped(['stVal', TWO_BITS]), DC };
    case 'INS':
      return { ST: stamped(['stVal', INT32]), DC };
    case 'VSS':
      return { ST: stamped(['stVal', TEXT]), DC };
    case 'BCR':
      return { ST: stamped(['actVal', INT64]), CF: structure(['units', UNITS], ['pulsQty', FLOAT]), DC };
    case 'MV':
      return { MX: stamped(['instMag', ANALOG], ['mag', ANALOG]), CF: structure(['units', UNITS]), DC };
    case 'SPC':
      return of('ST', [['stVal', BOOLEAN]], BOOLEAN);
    case 'DPC':
      return of('ST', [['stVal', TWO_BITS]], BOOLEAN);
    case 'INC':
      return of('ST', [['stVal', INT32]], INT32, true);
    case 'APC':
      return of('MX', [['mxVal', ANALOG]], ANALOG, true);
    case 'ENS':
      return { ST: stamped(['stVal', INT8]), DC };
    case 'ENC':
      return of('ST', [['stVal', INT8]], INT8);
    case 'ACT':
      return { ST: stamped(['general', BOOLEAN], ['phsA', BOOLEAN], ['phsB', BOOLEAN], ['phsC', BOOLEAN]), DC };
    case 'ACD':
      return { ST: stamped(['general', BOOLEAN], ['dirGeneral', INT8]), DC };
    case 'CMV':
      return { MX: VECTOR, CF: structure(['units', UNITS]), DC };
    case 'WYE':
      return {
        MX: structure(['phsA', VECTOR], ['phsB', VECTOR], ['phsC', VECTOR]),
        CF: structure(...PHASES.map((phase) => [phase, structure(['units', UNITS])] as const)),
        DC,
      };
    case 'ING':
      return { SP: structure(['setVal', INT32]), DC };
    case 'ASG':
      return { SP: structure(['setMag', ANALOG]), CF: structure(['units', UNITS]), DC };
    case 'SPG':
      return { SP: structure(['setVal', BOOLEAN]), DC };
    case 'VSG':
      return { SP: structure(['setVal', TEXT]), DC };
    case 'LPL':
      return { DC: structure(['vendor', TEXT], ['swRev', TEXT], ['d', TEXT], ['configRev', TEXT], ['ldNs', TEXT]) };
    case 'DPL':
      return { DC: structure(['vendor', TEXT], ['model', TEXT]) };
    default:
      throw new Error(`no data object of class ${cdc} is made here`);
  }
}
