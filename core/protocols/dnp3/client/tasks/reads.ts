import { ByteWriter } from '../../../../bytes/index.ts';
import { ALL_ATTRIBUTES, deviceAttributes } from '../../attributes.ts';
import { FunctionCode, iinWords, refusalOf } from '../../wire/application.ts';
import { writeAllHeader, writeCountHeader, writeRangeHeader } from '../../wire/header.ts';
import { readsPresent } from '../asking/readplan.ts';
import { Priority } from '../../../../line/index.ts';
import type { Rules, TaskOf } from '../task.ts';

/** Polls, and the survey of all that a device has. */

export const read: Rules<TaskOf<'read'>> = {
  priority: (task) => {
    if (task.survey !== undefined) return Priority.background;
    return readsPresent(task) ? Priority.integrity : Priority.events;
  },
  words: (task) => {
    const { survey, groups, classes } = task;
    if (survey !== undefined) return 'survey';
    if (groups !== undefined)
      return `${readsPresent(task) ? 'present values' : 'events'} by object, group ${groups.join(', ')}`;
    if (!classes.includes(0)) return `events ${classes.join(', ')}`;
    return classes.length > 1 ? 'integrity poll' : 'present values';
  },
  request: ({ classes, groups = [], limit }) => {
    const out = new ByteWriter();
    for (const n of classes)
      if (n > 0 && limit !== undefined) writeCountHeader(out, 60, n + 1, limit);
      else writeAllHeader(out, 60, n + 1);
    for (const group of groups) writeAllHeader(out, group, 0);
    return [FunctionCode.read, out.finish()];
  },
  answered: (task, answer, talk, now) => {
    const { survey } = task;
    if (survey === undefined) return talk.reads.answered(task, answer, now);
    // The present values are there: what the device says of itself comes last.
    const refusal = refusalOf(answer.fragment);
    if (refusal) talk.endSurvey(survey, `the device refused the request: ${iinWords(refusal).join(', ')}`);
    else talk.doFirst({ type: 'attributes', survey });
  },
};

export const attributes: Rules<TaskOf<'attributes'>> = {
  priority: () => Priority.background,
  words: () => 'attributes',
  request: () => {
    const out = new ByteWriter();
    writeRangeHeader(out, 0, ALL_ATTRIBUTES, 0, 0);
    return [FunctionCode.read, out.finish()];
  },
  answered: ({ survey }, { fragment }, talk) => talk.endSurvey(survey, null, deviceAttributes(fragment)),
  // A device may not answer what it does not know: that says nothing of the rest.
  unanswered: ({ survey }, _, talk) => {
    talk.endSurvey(survey, null);
    return 'over';
  },
  mayBeRefused: true,
};
