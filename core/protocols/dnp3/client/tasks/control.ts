import { ByteWriter } from '../../../../bytes/index.ts';
import { writeControlBlock, writeSetpoint } from '../../control.ts';
import { FunctionCode } from '../../wire/application.ts';
import { writeIndexedHeader, writeRangeHeader } from '../../wire/header.ts';
import { octetsOf } from '../../wire/text.ts';
import { Priority } from '../../../../line/index.ts';
import type { Rules, TaskOf } from '../task.ts';

/** Operates an output: never sent twice. What each control ends in stands in `ControlQueue`. */
export const control: Rules<TaskOf<'control'>> = {
  priority: () => Priority.control,
  words: ({ phase }) => phase,
  request: ({ request, phase }) => {
    const out = new ByteWriter();
    const { index, setpoint, block, mode, text } = request;
    if (text !== undefined) {
      const octets = octetsOf(text);
      writeRangeHeader(out, 110, octets.length, index, index);
      return [FunctionCode.write, out.bytes(octets).finish()];
    }
    if (setpoint) {
      writeIndexedHeader(out, 41, setpoint.variation, 1, index)(index);
      writeSetpoint(out, { ...setpoint, status: 0 });
    } else {
      writeIndexedHeader(out, 12, 1, 1, index)(index);
      writeControlBlock(out, { ...block, status: 0 });
    }
    return [phase === 'select' ? FunctionCode.select : OPERATE[mode], out.finish()];
  },
  unawaited: ({ request }) => (request.mode === 'directNoAnswer' ? () => {} : null),
  answered: (task, { fragment }, talk, now) => {
    if (talk.controls.answered(task, fragment, now)) talk.sendNow({ ...task, phase: 'operate' }, now);
  },
  unanswered: (task, _, talk) => {
    talk.controls.unanswered(task, `no answer in ${talk.settings.responseTimeoutMs} ms`);
    return 'over';
  },
};

const OPERATE: Record<TaskOf<'control'>['request']['mode'], number> = {
  selectOperate: FunctionCode.operate,
  selectOnly: FunctionCode.operate,
  direct: FunctionCode.directOperate,
  directNoAnswer: FunctionCode.directOperateNoAck,
};
