import { NO_PLAN, NO_POINTS, type Definition } from '../definition.ts';
import { numberField, secretField, textField, type SettingField } from '../settingfield.ts';
import { PUBLISHING_COUNTERS } from '../publishing/publisher.ts';
import { PUBLISHING_ADOPTS, publishingFields, publishingNames, publishingProblems } from '../publishing/settings.ts';
import { LIMITS, publisherSettings, type PublisherSettings } from './settings.ts';
import { address, targets, type BrokerTargetAt } from './target.ts';

const hasLastWords = (document: unknown): boolean =>
  (document as { settings?: { willTopic?: string } } | null)?.settings?.willTopic !== '';

const CLIENT_FIELDS: readonly SettingField[] = [
  textField('settings.clientId', 'Client id', {
    open: true,
    help: 'by which the broker knows us: of two clients with the same, each ends the other’s connection',
  }),
  textField('settings.user', 'User', { open: true, help: 'empty: none' }),
  secretField('settings.password', 'Password', { open: true }),
  {
    path: 'settings.version',
    title: 'Version of MQTT',
    type: 'choice',
    choices: [
      ['5', '5.0'],
      ['3.1.1', '3.1.1'],
    ],
  },
  numberField('settings.keepAliveS', 'Keep-alive', 's', [0, 65_535], { help: '0: never' }),
  textField('settings.willTopic', 'Topic of our state', {
    help: 'the broker says there when we are gone (last will), and we when we are back; empty: nowhere',
  }),
  textField('settings.willText', 'Said when we are gone', { applies: hasLastWords }),
  textField('settings.onlineText', 'Said when we are there', { applies: hasLastWords }),
  { path: 'settings.willRetain', title: 'The broker keeps our state', type: 'boolean', applies: hasLastWords },
];

/** MQTT 3.1.1 and 5.0: values to topics of a broker. Messages are described in docs/formats.md. */
export const mqtt: Definition<never, PublisherSettings, never, never, BrokerTargetAt, 'mqtt'> = {
  code: 'mqtt',
  words: { name: 'MQTT', us: 'client', them: 'broker' },
  framings: [],
  counters: PUBLISHING_COUNTERS,
  address,
  ...NO_POINTS,
  offers: null,
  publishes: {
    links: ['tcpClient'],
    port: 1883,
    settings: publisherSettings,
    fields: [
      ...CLIENT_FIELDS,
      { path: 'settings.retain', title: 'The broker keeps the last message of each topic', type: 'boolean' },
      ...publishingFields(LIMITS),
    ],
    first: { clientId: 'halvix' },
    placed: ['clientId', 'user', 'password', 'willTopic'],
    adopts: PUBLISHING_ADOPTS,
    plan: NO_PLAN,
    where: ({ clientId }) => `client id ${clientId}`,
    knownBy: ({ clientId }) => `client id ${clientId}`,
    // A connection is one client's alone.
    key: () => '',
    ends: ({ version, clientId, user, keepAliveS }) => [
      { what: 'Version of MQTT', ours: version === '5' ? '5.0' : version, theirs: 'speaks it', problem: null },
      { what: 'Client id', ours: clientId, theirs: 'lets it in, and nobody else has it', problem: null },
      {
        what: 'User',
        ours: user === '' ? 'none' : user,
        theirs: user === '' ? 'lets in whoever comes' : 'knows the password',
        problem: null,
      },
      {
        what: 'Keep-alive',
        ours: keepAliveS === 0 ? 'none' : `${keepAliveS} s`,
        theirs: 'takes it, or says another',
        problem: null,
      },
      { what: 'Quality of service', ours: '1', theirs: 'acknowledges each message', problem: null },
      { what: 'Message', ours: 'JSON', theirs: 'JSON, UTF-8: one object, or a list of them', problem: null },
      { what: 'Repetitions', ours: 'have the same id', theirs: 'are dropped by id', problem: null },
    ],
    check: (all) => [
      ...publishingProblems(all),
      ...(all.password !== '' && all.user === '' ? ['a password needs a user'] : []),
    ],
    namesTargets: publishingNames,
    quiet: true,
    targets,
    carried: null,
  },
};
