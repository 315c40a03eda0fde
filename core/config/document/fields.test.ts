import { describe, expect, test } from 'vitest';
import { WAYS_OUT, DEVICE_PROTOCOLS, deviceOf, wayOut } from '../../protocols/definitions.ts';
import type { SettingField } from '../../protocols/settingfield.ts';
import { CENTRE_LINK_FIELDS, deviceFields, LINK_FIELDS, outboundFields, valueAt, withValueAt } from './fields.ts';
import { OBJECT_SCHEMAS, type ObjectKind } from './objects.ts';

/* The limits that a form shows are those of the schema, and every field is one that the document has. */

const link = { code: 'L', name: 'Link', type: 'tcpClient' };
const FORMS: [what: string, kind: ObjectKind, fields: readonly SettingField[], document: object][] = [
  ['a link', 'link', LINK_FIELDS, link],
  ['a link to a centre', 'link', CENTRE_LINK_FIELDS, link],
  ...DEVICE_PROTOCOLS.map((protocol): (typeof FORMS)[number] => [
    `a device of ${protocol}`,
    'device',
    deviceFields(protocol),
    {
      ...{ code: 'D', name: 'Device', station: 'S', link: 'L', protocol },
      settings: { ...deviceOf(protocol).first, ourAddress: 1, theirAddress: 2 },
    },
  ]),
  ...WAYS_OUT.map((protocol): (typeof FORMS)[number] => [
    `an outbound of ${protocol}`,
    'outbound',
    outboundFields(protocol),
    {
      ...{ code: 'O', name: 'centre', centre: 'Centre', link: 'L', protocol },
      settings: { ...wayOut(protocol)?.first },
    },
  ]),
];

describe.each(FORMS)('%s', (_what, kind, fields, document) => {
  const whole = OBJECT_SCHEMAS[kind].parse(document);
  /** Whether the schema takes a value there. */
  const takes = (path: string, value: unknown): boolean => {
    const read = OBJECT_SCHEMAS[kind].safeParse(withValueAt(whole, path, value));
    return read.success || !read.error.issues.some((issue) => issue.path.join('.') === path);
  };

  const limited = fields.flatMap(({ path, limits }) => (limits ? [{ path, limits }] : []));
  test.each(limited)('$path: $limits', ({ path, limits: [low, high] }) => {
    expect([takes(path, low), takes(path, high)]).toEqual([true, true]);
    expect([takes(path, low - 1), takes(path, high + 1)]).toEqual([false, false]);
  });

  test('each choice is one that the schema takes, and another is not', () => {
    for (const { path, choices } of fields) {
      // Which framings there are depends on the protocol: the check says.
      if (choices === undefined || path === 'framing') continue;
      for (const [value] of choices) expect([path, value, takes(path, value)]).toEqual([path, value, true]);
      expect([path, takes(path, 'none of them')]).toEqual([path, false]);
    }
  });

  test('each field is of the document', () => {
    for (const { path } of fields) expect([path, valueAt(whole, path) === undefined]).toEqual([path, false]);
  });
});
