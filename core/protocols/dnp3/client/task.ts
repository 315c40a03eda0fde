import type { FileWish } from '../files/filejob.ts';
import type { Requested } from '../order.ts';
import { readsPresent } from './readplan.ts';
import type { Task } from './request.ts';

/** What the tasks of a master are to those who wait for the line, and in words. */

/** What a master would do with the line, the most urgent first. */
export const Priority = { control: 0, confirm: 1, events: 2, integrity: 3, background: 4 } as const;
export type Priority = (typeof Priority)[keyof typeof Priority];

export function priorityOf(task: Task): Priority {
  switch (task.type) {
    case 'control':
      return Priority.control;
    case 'clearRestart':
    case 'writeTime':
    case 'writeRecordedTime':
      return Priority.events;
    case 'read':
      if (task.survey !== undefined) return Priority.background;
      return readsPresent(task) ? Priority.integrity : Priority.events;
    case 'disableUnsolicited':
    case 'enableUnsolicited':
      return Priority.integrity;
    case 'attributes':
    case 'measureDelay':
    case 'recordTime':
    case 'readClock':
    case 'order':
    case 'broadcast':
    case 'file':
      return Priority.background;
    default:
      return task satisfies never;
  }
}

/** Start-up and repetitions do not stand behind the events of others, or a device would be slow to come and to go. */
export const urgentPriority = (task: Task): Priority => {
  const priority = priorityOf(task);
  return priority === Priority.integrity ? Priority.events : priority;
};

/** A task in words, for those who watch the line. */
export function taskWords(task: Task): string {
  switch (task.type) {
    case 'control':
      return task.phase === 'select' ? 'select' : 'operate';
    case 'read':
      if (task.survey !== undefined) return 'survey';
      if (task.groups !== undefined)
        return `${readsPresent(task) ? 'present values' : 'events'} by object, group ${task.groups.join(', ')}`;
      return task.classes.includes(0)
        ? task.classes.length > 1
          ? 'integrity poll'
          : 'present values'
        : `events ${task.classes.join(', ')}`;
    case 'disableUnsolicited':
      return 'disable unsolicited';
    case 'enableUnsolicited':
      return 'enable unsolicited';
    case 'clearRestart':
      return 'clear restart';
    case 'measureDelay':
      return 'measure delay';
    case 'recordTime':
      return 'record time';
    case 'writeTime':
    case 'writeRecordedTime':
      return 'set clock';
    case 'readClock':
      return 'read clock';
    case 'attributes':
      return 'attributes';
    case 'file':
      return FILE_WORDS[task.job.wish.what];
    case 'broadcast':
      return task.words;
    case 'order':
      return ORDER_WORDS[task.order.what];
    default:
      return task satisfies never;
  }
}

const FILE_WORDS: Record<FileWish['what'], string> = {
  directory: 'read directory',
  readFile: 'read file',
  deleteFile: 'delete file',
  fileInformation: 'file information',
};

const ORDER_WORDS: Record<Requested['what'], string> = {
  freeze: 'freeze counters',
  restart: 'restart',
  assignClass: 'assign class',
  unsolicited: 'unsolicited',
  writeDeadbands: 'write deadbands',
  readDeadbands: 'read deadbands',
};
