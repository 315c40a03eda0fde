import { ByteWriter } from '../../../../bytes/index.ts';
import { FunctionCode } from '../../wire/application.ts';
import { writeAllHeader, writeRangeHeader } from '../../wire/header.ts';
import { Priority } from '../../../../line/index.ts';
import type { Rules, TaskOf } from '../task.ts';

/** What puts a device in the state in which it is to be polled. It may do without all of it. */

const RESTART_BIT = 7;

export const disableUnsolicited: Rules<TaskOf<'disableUnsolicited'>> = {
  priority: () => Priority.integrity,
  words: () => 'disable unsolicited',
  request: () => {
    const out = new ByteWriter();
    for (const variation of [2, 3, 4]) writeAllHeader(out, 60, variation);
    return [FunctionCode.disableUnsolicited, out.finish()];
  },
  answered: () => {},
  mayBeRefused: true,
  dispensable: 'disable unsolicited',
};

export const enableUnsolicited: Rules<TaskOf<'enableUnsolicited'>> = {
  priority: () => Priority.integrity,
  words: () => 'enable unsolicited',
  request: ({ classes }) => {
    const out = new ByteWriter();
    for (const n of classes) writeAllHeader(out, 60, n + 1);
    return [FunctionCode.enableUnsolicited, out.finish()];
  },
  answered: () => {},
  dispensable: 'enable unsolicited',
};

export const clearRestart: Rules<TaskOf<'clearRestart'>> = {
  priority: () => Priority.events,
  words: () => 'clear restart',
  request: () => {
    const out = new ByteWriter();
    writeRangeHeader(out, 80, 1, RESTART_BIT, RESTART_BIT);
    return [FunctionCode.write, out.uint8(0).finish()];
  },
  answered: () => {},
  dispensable: 'clear restart',
};
