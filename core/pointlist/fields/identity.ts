import { DEVICE_PROTOCOLS, pointsOf } from '../../protocols/index.ts';
import { kindOf, KIND_WORDS } from '../../point/index.ts';
import { checked, done, formula, numberField, shortened, textField, wrong, type PointField } from './field.ts';

const YES = /^(yes|y|true|1|in|in service|on)$/i;
const NO = /^(no|n|false|0|out|out of service|off)$/i;

const CELLS = DEVICE_PROTOCOLS.map((protocol) => pointsOf(protocol));

const KINDS = Object.values(KIND_WORDS)
  .map(({ short }) => short)
  .join(', ');

/** What a point is, where, and what it is called. */
export const IDENTITY_FIELDS: readonly PointField[] = [
  {
    key: 'kind',
    title: 'Kind',
    help: Object.values(KIND_WORDS)
      .map(({ short, one }) => `${short} ${one}`)
      .join(', '),
    aliases: ['type', 'point type', 'object', 'class of point'],
    choices: Object.values(KIND_WORDS).map(({ short }) => short),
    text: ({ kind }) => KIND_WORDS[kind].short,
    set: (point, text) => {
      const kind = kindOf(text);
      return kind ? done({ ...point, kind }) : wrong(`"${shortened(text)}" is not a kind: ${KINDS}`);
    },
  },
  {
    key: 'index',
    title: 'Address',
    help: CELLS.map(({ cell: { help } }) => help).join('; '),
    numeric: true,
    aliases: ['point index', 'point', 'number', 'point number', 'no', ...CELLS.flatMap(({ cell }) => cell.aliases)],
    text: (point) => pointsOf(point.at.protocol).cell.text(point),
    set: (point, text) => {
      const set = pointsOf(point.at.protocol).cell.set(point, text);
      return set.ok ? done({ ...point, ...set.value }) : wrong(set.problem);
    },
  },
  textField('name', 'Name', 'at most 80 characters', ['point name', 'label', 'tag', 'signal', 'text']),
  textField('description', 'Description', 'at most 400 characters', ['comment', 'remark', 'note', 'long name']),
  textField('unit', 'Unit', 'at most 16 characters', ['units', 'engineering unit', 'eu', 'uom']),
];

/** What its states are called. */
export const STATE_FIELDS: readonly PointField[] = [
  {
    key: 'states',
    title: 'State words',
    help: 'open / closed; four for a double-bit point',
    aliases: ['states', 'state text', 'state names'],
    text: ({ states }) => states?.join(' / ') ?? '',
    set: (point, text) => {
      if (text.trim() === '') return done({ ...point, states: null });
      const problem = formula(text);
      if (problem !== null) return wrong(problem);
      const states = text.split('/').map((word) => word.trim());
      if (states.length < 2 || states.length > 4)
        return wrong(`"${shortened(text)}" is not two to four words such as open / closed`);
      return checked(point, { states });
    },
  },
  numberField(
    'normal',
    'Normal state',
    '0 to 3; empty: none',
    ['normal'],
    ({ normal }) => normal,
    (_p, value) => ({ normal: value }),
  ),
];

export const SERVICE_FIELDS: readonly PointField[] = [
  {
    key: 'inService',
    title: 'In service',
    help: 'yes or no',
    aliases: ['enabled', 'active'],
    choices: ['yes', 'no'],
    text: ({ inService }) => (inService ? 'yes' : 'no'),
    set: (point, text) => {
      if (text.trim() === '' || YES.test(text.trim())) return done({ ...point, inService: true });
      return NO.test(text.trim())
        ? done({ ...point, inService: false })
        : wrong(`"${shortened(text)}" is neither yes nor no`);
    },
  },
];
