import { draftPointSchema, NEW_SETTING, type DraftPoint } from '../../config/index.ts';
import { definitionOf, DEVICE_PROTOCOLS, type ProtocolCode, pointsOf } from '../../protocols/index.ts';
import type { PointKind } from '../../point/index.ts';
import { CONTROL_FIELDS, NEW_CONTROL, SETTING_FIELDS, settingWith } from './control.ts';
import { checked, done, wrong, type PointField } from './field.ts';
import { HISTORY_FIELDS } from './history.ts';
import { IDENTITY_FIELDS, SERVICE_FIELDS, STATE_FIELDS } from './identity.ts';
import { VALUE_FIELDS } from './scaling.ts';

export { readNumber, shortened, type PointField } from './field.ts';

/** What only the points of one protocol have. A cell of others is empty, and stays so. */
const ownFields = (protocol: ProtocolCode): PointField[] =>
  pointsOf(protocol).fields.map(({ key, title, help, aliases, choices, numeric, isSetting, text, set }) => ({
    key,
    title,
    help,
    aliases,
    protocols: [protocol],
    ...(choices ? { choices } : {}),
    ...(numeric ? { numeric } : {}),
    text: (point) => (point.at.protocol !== protocol || (isSetting && point.setting === null) ? '' : text(point)),
    set: (point, given) => {
      const { name } = definitionOf(point.at.protocol).words;
      if (point.at.protocol !== protocol)
        return given.trim() === '' ? done(point) : wrong(`a ${name} point has no ${title.toLowerCase()}`);
      if (isSetting && given.trim() === '') return done({ ...point, setting: null });
      const at = set(point, given);
      if (!at.ok) return wrong(at.problem);
      return checked({ ...point, at: at.value }, isSetting ? settingWith(point, {}) : {});
    },
  }));

/** A field that several protocols have is one: each point asks its own. */
function together(fields: readonly PointField[]): PointField[] {
  const byKey = new Map<string, PointField[]>();
  for (const field of fields) byKey.set(field.key, [...(byKey.get(field.key) ?? []), field]);
  return [...byKey.values()].map((same) => {
    const [first] = same;
    if (same.length === 1) return first;
    const own = (point: DraftPoint): PointField =>
      same.find(({ protocols = [] }) => protocols.includes(point.at.protocol)) ?? first;
    return {
      ...first,
      protocols: same.flatMap(({ protocols = [] }) => protocols),
      aliases: [...new Set(same.flatMap(({ aliases }) => aliases))],
      choices: first.choices && [...new Set(same.flatMap(({ choices = [] }) => choices))],
      text: (point) => own(point).text(point),
      set: (point, text) => own(point).set(point, text),
    };
  });
}

export const POINT_FIELDS: readonly PointField[] = [
  ...IDENTITY_FIELDS,
  ...VALUE_FIELDS,
  ...STATE_FIELDS,
  ...HISTORY_FIELDS,
  ...CONTROL_FIELDS,
  ...together(DEVICE_PROTOCOLS.flatMap(ownFields)),
  ...SETTING_FIELDS,
  ...SERVICE_FIELDS,
];

const FIELD_BY_KEY = new Map(POINT_FIELDS.map((field) => [field.key, field]));
export const pointField = (key: string): PointField => {
  const field = FIELD_BY_KEY.get(key);
  if (field === undefined) throw new Error(`there is no field ${key}`);
  return field;
};

const BY_HEADING = new Map(
  POINT_FIELDS.flatMap(({ key, title, aliases }) =>
    [title, key, ...aliases].map((heading) => [heading.toLowerCase(), key] as const),
  ),
);
/** Which field a column heading means; undefined when none is known. A unit in brackets does not matter. */
export function fieldOfHeading(heading: string): string | undefined {
  const words = heading
    .trim()
    .toLowerCase()
    .replace(/\s*[([].*[)\]]\s*$/, '')
    .replace(/[_.]+/g, ' ');
  return BY_HEADING.get(words) ?? (DEVICE_HEADINGS.includes(words) ? 'device' : undefined);
}
const DEVICE_HEADINGS = ['device', 'device code', 'ied', 'rtu', 'relay'];

const { at: _at, ...BLANK } = draftPointSchema.parse({
  kind: 'binary',
  at: pointsOf(DEVICE_PROTOCOLS[0]).blank('binary'),
  name: '-',
});

/** A point with nothing but its kind and its place: the number in the series of its kind. The name is not checked here. */
export function newPoint(protocol: ProtocolCode, kind: PointKind, number: number | null, name: string): DraftPoint {
  const { blank, history, withNumber } = pointsOf(protocol);
  return {
    ...BLANK,
    kind,
    at: withNumber(blank(kind), number),
    history: { mode: history },
    name,
    control: kind === 'output' ? NEW_CONTROL : null,
    setting: kind === 'setpoint' ? NEW_SETTING : null,
  };
}
