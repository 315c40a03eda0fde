import { ByteWriter } from '../../../../bytes/index.ts';
import type { Instant } from '../../../../session/index.ts';
import { decodeFileObject, encodeFileObject } from '../../files/file.ts';
import type { FileWish } from '../../files/filejob.ts';
import { isAnswered, orderAnswer, orderRequest, type Requested } from '../../order.ts';
import { FunctionCode, iinWords, refusalOf } from '../../wire/application.ts';
import { writeAllHeader } from '../../wire/header.ts';
import { writeRecordedTime } from './clock.ts';
import { Priority } from '../../../../line/index.ts';
import type { Conversation, Rules, TaskOf } from '../task.ts';

/** What a person asked of a device beyond its points. Nothing of it is sent twice, but blocks of a file. */

export const order: Rules<TaskOf<'order'>> = {
  priority: () => Priority.background,
  words: ({ order: { what } }) => ORDER_WORDS[what],
  request: ({ order: wanted }) => orderRequest(wanted),
  unawaited: ({ id, order: wanted }) => (isAnswered(wanted) ? null : (talk) => talk.endOrder(id, null)),
  answered: ({ id, order: wanted }, { fragment }, talk) => {
    const answer = orderAnswer(wanted, fragment);
    if (typeof answer === 'string') talk.endOrder(id, answer);
    else talk.endOrder(id, null, answer);
  },
  unanswered: ({ id }, _, talk) => {
    talk.endOrder(id, `no answer in ${talk.settings.responseTimeoutMs} ms; it may have been carried out`);
    return 'over';
  },
  mayBeRefused: true,
};

const ORDER_WORDS: Record<Requested['what'], string> = {
  freeze: 'freeze counters',
  restart: 'restart',
  assignClass: 'assign class',
  unsolicited: 'unsolicited',
  writeDeadbands: 'write deadbands',
  readDeadbands: 'read deadbands',
};

export const file: Rules<TaskOf<'file'>> = {
  priority: () => Priority.background,
  words: ({ job }) => FILE_WORDS[job.wish.what],
  request: ({ job }) => {
    const next = job.next();
    if (next.step !== 'send') throw new Error('the file has been dealt with');
    return [next.functionCode, encodeFileObject(next.object)];
  },
  answered: (task, { fragment }, talk, now) => {
    const decoded = decodeFileObject(fragment.octets, fragment.objectsAt);
    const refusal = refusalOf(fragment);
    if (decoded.ok) task.job.take(decoded.value);
    else task.job.take(null, refusal ? `the device refused: ${iinWords(refusal).join(', ')}` : decoded.problem);
    goOnWithFile(task, talk, now);
  },
  unanswered: (task, attempt, talk, now) => {
    if (task.job.mayRepeat && attempt < talk.settings.retries) return 'again';
    task.job.take(null);
    goOnWithFile(task, talk, now);
    return 'over';
  },
  mayBeRefused: true,
};

/** After a step of a wish about a file, answered or not: the next one waits for its turn, or the order ends. */
function goOnWithFile(task: TaskOf<'file'>, talk: Conversation, now: Instant): void {
  const { id, job } = task;
  const next = job.next();
  if (next.step === 'failed') talk.endOrder(id, next.words);
  else if (next.step === 'done') talk.endOrder(id, null, next.answer);
  else {
    if (job.octets > 0) talk.report({ type: 'fileProgress', id, octets: job.octets });
    talk.doNext(task, now);
  }
}

const FILE_WORDS: Record<FileWish['what'], string> = {
  directory: 'read directory',
  readFile: 'read file',
  deleteFile: 'delete file',
  fileInformation: 'file information',
};

/** To all devices on the line; nothing is answered. */
export const broadcast: Rules<TaskOf<'broadcast'>> = {
  priority: () => Priority.background,
  words: ({ words }) => words,
  request: ({ functionCode, objects }) => [functionCode, objects],
  // The moment that was recorded is told with another one; after that it is done.
  unawaited:
    ({ id, functionCode }) =>
    (talk, at) => {
      if (functionCode === FunctionCode.recordCurrentTime) talk.doNext(recordedTimeTask(id, at), at);
      else talk.endOrder(id, null);
      talk.clock.wasSet(at);
    },
  answered: () => {},
};

/** What goes to all devices on a line at once: none of these is answered (IEEE 1815, clauses 4.4.6 and 10.3). */
export function broadcastTask(id: string, job: 'freeze' | 'freezeAndClear' | 'time'): TaskOf<'broadcast'> {
  if (job === 'time') {
    const objects = new Uint8Array(0);
    return { type: 'broadcast', id, functionCode: FunctionCode.recordCurrentTime, objects, words: 'all: record time' };
  }
  const out = new ByteWriter();
  writeAllHeader(out, 20, 0);
  const functionCode = job === 'freeze' ? FunctionCode.immediateFreezeNoAck : FunctionCode.freezeAndClearNoAck;
  return { type: 'broadcast', id, functionCode, objects: out.finish(), words: 'all: freeze counters' };
}

/** Tells all devices what time it was when they recorded it. */
const recordedTimeTask = (id: string, at: Instant): TaskOf<'broadcast'> => {
  const [functionCode, objects] = writeRecordedTime.request({ type: 'writeRecordedTime', at }, at);
  return { type: 'broadcast', id, functionCode, objects, words: 'all: set clock' };
};
