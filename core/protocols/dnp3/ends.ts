import type { TwoEnds } from '../ends.ts';
import type { MasterSettings, OutstationSettings } from './settings.ts';

const unsolicitedWords = ({ disableUnsolicited, unsolicitedClasses }: MasterSettings): string =>
  unsolicitedClasses.length > 0
    ? `switched on after start, classes ${unsolicitedClasses.join(', ')}`
    : disableUnsolicited
      ? 'switched off at start'
      : 'left as it is';

const ROLES: TwoEnds = {
  what: 'Protocol and role',
  ours: 'DNP3 master, asks',
  theirs: 'DNP3 outstation, answers',
  problem: null,
};

/** What master and outstation have to agree on. */
export function masterEnds(settings: MasterSettings): TwoEnds[] {
  const clash = settings.ourAddress === settings.theirAddress ? 'both ends have the same address' : null;
  return [
    ROLES,
    {
      what: 'DNP3 address',
      ours: String(settings.ourAddress),
      theirs: String(settings.theirAddress),
      problem: clash,
    },
    {
      what: 'Knows as the other',
      ours: `outstation ${settings.theirAddress}`,
      theirs: `master ${settings.ourAddress}`,
      problem: null,
    },
    {
      what: 'Unsolicited reporting',
      ours: unsolicitedWords(settings),
      theirs:
        settings.unsolicitedClasses.length > 0
          ? `on, classes ${settings.unsolicitedClasses.join(', ')}`
          : settings.disableUnsolicited
            ? 'off, or waits until it is switched on'
            : 'as set there; what comes is taken',
      problem: null,
    },
    {
      what: 'Time',
      ours: settings.timeSync !== 'never' ? 'sets it when asked' : 'never sets it',
      theirs: settings.timeSync !== 'never' ? 'asks for it (IIN1.4)' : 'from elsewhere',
      problem: null,
    },
    {
      what: 'Longest fragment',
      ours: `${settings.maxFragment} octets`,
      theirs: `at most ${settings.maxFragment} octets`,
      problem: null,
    },
  ];
}

/** What our outstation and the centre's master have to agree on. */
export const outstationEnds = (settings: OutstationSettings): TwoEnds[] =>
  (
    [
      ['DNP3 address', String(settings.ourAddress), String(settings.theirAddress)],
      ['Knows as the other', `master ${settings.theirAddress}`, `outstation ${settings.ourAddress}`],
      ['Confirms events within', `waits ${settings.confirmTimeoutMs} ms`, `${settings.confirmTimeoutMs} ms`],
      ['Operates after a select within', `waits ${settings.selectTimeoutMs} ms`, `${settings.selectTimeoutMs} ms`],
      [
        'Unsolicited reporting',
        settings.unsolicited ? 'sent once it is enabled' : 'not sent',
        settings.unsolicited ? 'enables it and confirms it' : 'polls the classes 1 to 3',
      ],
    ] as const
  ).map(([what, ours, theirs]) => ({ what, ours, theirs, problem: null }));
