import type { Rules, Task, TaskOf } from '../task.ts';
import { Priority } from '../../../../line/index.ts';
import { measureDelay, readClock, recordTime, writeRecordedTime, writeTime } from './clock.ts';
import { control } from './control.ts';
import { broadcast, file, order } from './orders.ts';
import { attributes, read } from './reads.ts';
import { clearRestart, disableUnsolicited, enableUnsolicited } from './setup.ts';

export { broadcastTask } from './orders.ts';
export { read } from './reads.ts';

const TASKS: { [Type in Task['type']]: Rules<TaskOf<Type>> } = {
  ...{ disableUnsolicited, enableUnsolicited, clearRestart },
  ...{ read, attributes },
  ...{ measureDelay, writeTime, recordTime, writeRecordedTime, readClock },
  ...{ order, file, broadcast },
  control,
};

export const rulesOf = <Kind extends Task>(task: Kind): Rules<Kind> => TASKS[task.type] as unknown as Rules<Kind>;
export const wordsOf = (task: Task): string => rulesOf(task).words(task);

/** Start-up and repetitions do not stand behind the events of others, or a device would be slow to come and to go. */
export function urgentPriority(task: Task): Priority {
  const priority = rulesOf(task).priority(task);
  return priority === Priority.integrity ? Priority.events : priority;
}
