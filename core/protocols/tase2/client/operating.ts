import { switchesOn, wholeOf } from '../../../point/index.ts';
import type { Instant, Result } from '../../../session/index.ts';
import type { ControlOrder, ControlStep } from '../../control.ts';
import { ask, type Dialogue } from '../../mms/dialogue.ts';
import { accessErrorWords, type Data } from '../../mms/wire/data.ts';
import { nameWords, type ObjectName } from '../../mms/wire/names.ts';
import { nameOfPoint, type TaseAt } from '../points.ts';
import { tagWords } from '../tags.ts';
import { readTag } from './tagging.ts';

/*
 * One control of a device at a peer (IEC 60870-6-503, clause 7.4: block 5; from memory). Nothing of it is sent twice.
 *
 * object                select                                    operate
 * --------------------  ----------------------------------------  ----------------------
 * NAME                  –                                         NAME is written
 * NAME with NAME_SBO    NAME_SBO is read: its check-back id       NAME is written
 */

/** Of an object that has to be selected; beside its name. */
export const SELECT = '_SBO';

export interface Operating {
  control: ControlOrder<TaseAt>;
  needsSelect: boolean;
  /** It may be tagged: where it is refused, that says why. */
  hasTag: boolean;
  report: (step: ControlStep) => void;
  clock: () => Instant;
}

export function* operate({ control, needsSelect, hasTag, report, clock }: Operating): Dialogue<void> {
  const name = nameOfPoint(control.at);
  // A set point is a whole number or one with a point.
  const type = control.kind === 'setpoint' ? yield* ask('attributes', { name }) : null;
  const value = valueOf(control, type?.ok === true && type.response.of.type === 'integer');
  if (!value.ok) return report({ step: 'failed', words: `${value.problem}; nothing was sent` });
  if (needsSelect) {
    report({ step: 'selectSent' });
    const answer = yield* ask('read', { variables: { names: [{ name: selectName(name) }] } });
    if (!answer.ok && answer.lost)
      return report({ step: 'failed', words: `select: ${answer.words}; nothing was operated` });
    if (!answer.ok) return report({ step: 'refused', status: 0, words: answer.words });
    const [found] = answer.response.results;
    if (found?.type === 'failure')
      return report({
        ...{ step: 'refused', status: found.code },
        words: `select: ${accessErrorWords(found.code)}${yield* why(control.at, hasTag)}`,
      });
    report({ step: 'selected' });
    if (control.mode === 'selectOnly') return;
    if (clock() >= control.expiresAt) return report({ step: 'expired', words: 'it expired after the select' });
  } else if (control.mode === 'selectOnly') return report({ step: 'selected' });
  report({ step: 'operateSent' });
  const answer = yield* ask('write', { variables: { names: [{ name }] }, values: [value.value] });
  if (!answer.ok && answer.lost) report({ step: 'unknown', words: `it was written, but ${answer.words}` });
  else if (!answer.ok) report({ step: 'refused', status: 0, words: answer.words });
  else {
    const [error = null] = answer.response.results;
    if (error === null) report({ step: 'operated' });
    else
      report({
        ...{ step: 'refused', status: error },
        words: `${nameWords(name)}: ${accessErrorWords(error)}${yield* why(control.at, hasTag)}`,
      });
  }
}

/** A tag that may be the reason of a refusal, in words; empty: there is none. */
function* why(at: TaseAt, hasTag: boolean): Dialogue<string> {
  const found = hasTag ? yield* readTag(at) : null;
  return found === null || found.tag.inhibits === 'nothing' ? '' : `; ${tagWords(found.tag)}`;
}

export const selectName = (name: ObjectName): ObjectName => ({ ...name, item: `${name.item}${SELECT}` });

/** A command is 1 for on and 0 for off (common practice). */
function valueOf({ operation, counts, at }: ControlOrder<TaseAt>, isWhole: boolean): Result<Data, string> {
  if (operation !== null) return { ok: true, value: { type: 'integer', value: switchesOn(operation) ? 1 : 0 } };
  if (counts === null || !Number.isFinite(counts)) return { ok: false, problem: `there is no value for ${at.name}` };
  const whole = wholeOf(counts);
  if (isWhole && whole === null)
    return { ok: false, problem: `${counts} is no whole number, and ${at.name} takes no other` };
  if (isWhole && whole !== null) return { ok: true, value: { type: 'integer', value: whole } };
  return { ok: true, value: { type: 'float', value: Math.fround(counts), width: 32 } };
}
