import { describe, expect, test } from 'vitest';
import type { Refusal } from './control.ts';
import { deviceOf } from './definitions.ts';
import { ControlStatus, STATUS_OF } from './dnp3/control.ts';
import { CAUSES, CAUSE_WORDS_OF } from './iec61850/control.ts';
import { ExceptionCode, EXCEPTION_OF } from './modbus/wire/pdu.ts';

/* Why a device refused a control, from one protocol to the next (docs/quality.md). */
const ALL = Object.keys(STATUS_OF) as Refusal[];

describe('a refusal', () => {
  test('of DNP3 and IEC 61850 comes back as it went', () => {
    for (const refusal of ALL) {
      expect(deviceOf('dnp3').refusal(STATUS_OF[refusal])).toBe(refusal);
      const cause = CAUSES.findIndex((words) => words === CAUSE_WORDS_OF[refusal]);
      expect(deviceOf('iec61850').refusal(cause)).toBe(refusal);
    }
  });

  test.each<[number, number | undefined]>([
    // What a bay says, and what a DNP3 centre is told.
    [CAUSES.indexOf('blocked by switching hierarchy'), ControlStatus.local],
    [CAUSES.indexOf('blocked by interlocking'), ControlStatus.blocked],
    [CAUSES.indexOf('blocked by synchrocheck'), ControlStatus.blocked],
    [CAUSES.indexOf('object not selected'), ControlStatus.noSelect],
    [CAUSES.indexOf('locked by other client'), ControlStatus.alreadyActive],
    [CAUSES.indexOf('position reached'), ControlStatus.alreadyComplete],
    [CAUSES.indexOf('no access authority'), ControlStatus.notAuthorized],
    [CAUSES.indexOf('aborted by loss of communication'), ControlStatus.downstreamFail],
    [CAUSES.indexOf('blocked by health'), ControlStatus.undefined],
    [9999, ControlStatus.undefined],
  ])('cause %i is status %i', (cause, status) => expect(STATUS_OF[deviceOf('iec61850').refusal(cause)]).toBe(status));

  test('of Modbus says less, and never something else', () => {
    expect(deviceOf('modbus').refusal(ExceptionCode.illegalValue)).toBe('outOfRange');
    expect(deviceOf('modbus').refusal(ExceptionCode.gatewaySilent)).toBe('lost');
    expect(deviceOf('modbus').refusal(0x77)).toBe('other');
    for (const refusal of ALL) {
      const back = deviceOf('modbus').refusal(EXCEPTION_OF[refusal]);
      expect([refusal, 'other', 'notSupported']).toContain(back);
    }
  });
});
