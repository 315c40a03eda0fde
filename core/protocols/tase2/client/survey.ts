import type { PointKind } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { SurveyedPoint } from '../../client.ts';
import { dataWords } from '../../mms/describe.ts';
import type { MmsClient } from '../../mms/client.ts';
import { accessErrorWords } from '../../mms/wire/data.ts';
import type { ObjectName } from '../../mms/wire/names.ts';
import { flagWords } from '../quality.ts';
import { SPECIAL_NAMES } from '../transfer.ts';
import { decode, isControl, partsOf, pointTypeOf } from '../types.ts';
import { SELECT } from './operating.ts';

/** Everything that a peer lets us see, with its present values: of its domain, and of the whole centre. */
export function survey(
  client: MmsClient,
  domain: string,
  done: (found: SurveyedPoint[], problem: string | null, now: Instant) => void,
  now: Instant,
): void {
  const found: SurveyedPoint[] = [];
  const problems: string[] = [];
  let open = 1;
  const settled = (at: Instant): void => {
    if (--open > 0) return;
    found.sort((a, b) => (a.address < b.address ? -1 : 1));
    done(found, problems.length > 0 ? problems.slice(0, 3).join('; ') : null, at);
  };
  const look = (name: ObjectName, all: ReadonlySet<string>, at: Instant): void => {
    open++;
    client.ask(
      'attributes',
      { name },
      (answer, later) => {
        const type = answer.ok ? pointTypeOf(answer.response.of) : null;
        const kind = type === null ? null : kindOf(type, name.item, all);
        if (type === null || kind === null) return settled(later);
        open++;
        client.ask(
          'read',
          { variables: { names: [{ name }] } },
          (read, last) => {
            const value = read.ok ? read.response.results[0] : undefined;
            const said = value && decode(value);
            const address = name.scope === 'domain' ? `${name.domain}/${name.item}` : name.item;
            const words = value?.type === 'failure' ? { words: accessErrorWords(value.code) } : {};
            found.push({
              ...{ kind, address, form: type, value: said?.value ?? null, ...words },
              said: said?.flags ? flagWords(said.flags) : value && said === null ? dataWords(value) : '',
              time: said?.time ?? null,
            });
            settled(last);
          },
          later,
        );
        settled(later);
      },
      at,
    );
  };
  const names = (of: string | null, after: string | null, before: readonly string[], at: Instant): void => {
    open++;
    client.ask(
      'nameList',
      { class: 'variable', domain: of, after },
      (answer, later) => {
        if (!answer.ok) problems.push(`${of ?? 'the whole centre'}: ${answer.words}`);
        else {
          const { names: some, more } = answer.response;
          const all = [...before, ...some];
          if (more && some.length > 0) names(of, some.at(-1) ?? null, all, later);
          else {
            const known = new Set(all);
            for (const item of all)
              if (isPoint(item, known))
                look(of === null ? { scope: 'vmd', item } : { scope: 'domain', domain: of, item }, known, later);
          }
        }
        settled(later);
      },
      at,
    );
  };
  names(domain, null, [], now);
  names(null, null, [], now);
  settled(now);
}

/** What is the protocol's own, a part of something, or beside a control is no point. */
const isPoint = (item: string, all: ReadonlySet<string>): boolean =>
  !SPECIAL_NAMES.has(item) &&
  !item.includes('$') &&
  !(item.endsWith(SELECT) && all.has(item.slice(0, -SELECT.length))) &&
  !item.endsWith('_TAG');

function kindOf(
  type: NonNullable<ReturnType<typeof pointTypeOf>>,
  item: string,
  all: ReadonlySet<string>,
): PointKind | null {
  if (isControl(type) || all.has(`${item}${SELECT}`)) return type === 'Real' ? 'setpoint' : 'output';
  const { base } = partsOf(type);
  return base === 'State' || base === 'StateSupplemental' ? 'doubleBit' : 'analog';
}
