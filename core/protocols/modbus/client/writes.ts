import { switchesOn } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { ControlOrder } from '../../control.ts';
import { isBitTable, TABLE_WORDS, widthOf, type ModbusAt } from '../points.ts';
import type { ClientSettings } from '../settings.ts';
import { writeValue } from '../values.ts';
import type { Request } from '../wire/pdu.ts';

type Control = ControlOrder<ModbusAt>;

/**
 * A control on its way: its first write, for a bit of a register that has to be read first that reading, and of a
 * pulse the write that ends it.
 */
export interface Writing {
  control: Control;
  /** Whether something was written already: with `readEnd` and `end` the beginning of a pulse. */
  step: 'read' | 'write' | 'readEnd' | 'end';
  request: Request;
  /** When its last write went out. */
  sentAt?: Instant;
  /** Of the end of a pulse: why nobody knows whether it has begun; absent: it has. */
  doubt?: string;
  /** What became of the control has been told: its end is only written down. */
  isTold?: boolean;
}

/** What to send first for a control, or why that cannot be. */
export function firstRequest(control: Control, settings: ClientSettings): Pick<Writing, 'step' | 'request'> | string {
  const { at, kind, operation, counts, count } = control;
  const { table, bit } = at;
  if (table === 'discreteInputs' || table === 'inputRegisters') return `a ${TABLE_WORDS[table].one} cannot be written`;
  if (kind === 'text') {
    if (at.type !== 'text') return 'it is no text';
    return { step: 'write', request: valueRequest(at, control.text ?? '', settings) };
  }
  if (kind === 'setpoint') {
    if (counts === null || isBitTable(table) || bit !== null) return 'it is no number that can be set';
    return { step: 'write', request: valueRequest(at, counts, settings) };
  }
  if (operation === null) return 'it cannot be asked for that';
  if (count > 1) return `a pulse is given once, not ${count} times`;
  if (isPartOfRegister(at) && !settings.maskWrites) return { step: 'read', request: readRequest(at) };
  return { step: 'write', request: bitRequest(at, switchesOn(operation), settings, null) };
}

/** After what had to be read first: the write itself, or the end of the pulse. */
export function writeAfterRead({ control, step }: Writing, register: Uint8Array, settings: ClientSettings): Request {
  const on = control.operation !== null && switchesOn(control.operation);
  return bitRequest(control.at, step === 'readEnd' ? !on : on, settings, register);
}

/** What ends a pulse, or has to be read for that first; null: it is none. */
export function endOf({ operation, at }: Control, settings: ClientSettings): Pick<Writing, 'step' | 'request'> | null {
  if (operation !== 'pulseOn' && operation !== 'pulseOff') return null;
  if (isPartOfRegister(at) && !settings.maskWrites) return { step: 'readEnd', request: readRequest(at) };
  return { step: 'end', request: bitRequest(at, operation === 'pulseOff', settings, null) };
}

const isPartOfRegister = ({ table, bit }: ModbusAt): boolean => !isBitTable(table) && bit !== null;
const readRequest = ({ address }: ModbusAt): Request => ({ code: 0x03, address, count: 1 });

/** `register`: what the register of a bit is, where it is to be written whole. */
function bitRequest(
  at: ModbusAt,
  on: boolean,
  { writes, maskWrites }: ClientSettings,
  register: Uint8Array | null,
): Request {
  const { table, address, bit } = at;
  if (isBitTable(table)) return writes === 'single' ? { code: 0x05, address, on } : { code: 0x0f, address, bits: [on] };
  if (bit === null) return registersRequest(address, Uint8Array.of(0, on ? 1 : 0), writes);
  const mask = 1 << bit;
  if (maskWrites || register === null) return { code: 0x16, address, and: 0xffff & ~mask, or: on ? mask : 0 };
  const before = (register[0] << 8) | register[1];
  const after = on ? before | mask : before & ~mask;
  return registersRequest(address, Uint8Array.of(after >> 8, after & 0xff), writes);
}

const valueRequest = (at: ModbusAt, value: number | string, { writes }: ClientSettings): Request =>
  registersRequest(at.address, writeValue(value, at.type, at.order, widthOf(at)), writes);

function registersRequest(address: number, registers: Uint8Array, writes: ClientSettings['writes']): Request {
  if (writes === 'readWrite')
    return { code: 0x17, address, count: registers.length / 2, writeAddress: address, registers };
  const single = registers.length === 2 && writes === 'single';
  return { code: single ? 0x06 : 0x10, address, registers };
}
