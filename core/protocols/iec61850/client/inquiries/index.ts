import type { Instant } from '../../../../session/index.ts';
import type { Question } from '../../order.ts';
import type { Inquiry } from './common.ts';
import { attributes } from './attributes.ts';
import { groupValues, setInGroup, useGroup } from './groups.ts';
import { readLog } from './logs.ts';
import { overview } from './overview.ts';
import { block, letGo, replace, replaceable } from './replacing.ts';

/** What is asked of a device for a person, request by request. `by`: who replaces values, as the device is told. */
export function inquiryOf(question: Question, by: string, now: Instant): Inquiry {
  switch (question.what) {
    case 'overview':
      return overview();
    case 'attributes':
      return attributes(question.device);
    case 'groupValues':
      return groupValues(question.device, question.group);
    case 'useGroup':
      return useGroup(question.device, question.group);
    case 'setInGroup':
      return setInGroup(question.device, question.group, question.reference, question.value);
    case 'readLog':
      return readLog(question.log, question.minutes, now);
    case 'replaceable':
      return replaceable(question.device);
    case 'replace':
      return replace(question.reference, question.value, by);
    case 'letGo':
      return letGo(question.reference);
    case 'block':
      return block(question.reference, question.on);
    default:
      return question satisfies never;
  }
}
