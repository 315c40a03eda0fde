import type { TwoEnds } from '../ends.ts';
import type { ClientSettings, ServerSettings } from './settings.ts';

const shown = (text: string): string => (text === '' ? 'none' : text);
const selectors = (transport: string, session: string, presentation: string): string =>
  `T ${shown(transport)}, S ${shown(session)}, P ${shown(presentation)}`;

/** What client and server have to agree on. */
export const clientEnds = (settings: ClientSettings): TwoEnds[] =>
  (
    [
      ['Protocol and role', 'IEC 61850 client, associates', 'IEC 61850 server, holds the model'],
      [
        'Selectors of the server',
        `calls ${selectors(settings.transportSelector, settings.sessionSelector, settings.presentationSelector)}`,
        selectors(settings.transportSelector, settings.sessionSelector, settings.presentationSelector),
      ],
      [
        'Selectors of the client',
        selectors(settings.ourTransportSelector, settings.ourSessionSelector, settings.ourPresentationSelector),
        'any, or exactly these',
      ],
      [
        'Password',
        settings.password === '' ? 'none' : 'one is given',
        settings.password === '' ? 'none is asked for' : 'the same',
      ],
      [
        'Reports',
        settings.reports === 'none'
          ? 'not used: all is read'
          : `${settings.reports} ones are taken where there is a choice`,
        settings.reports === 'none' ? 'none needed' : 'one that nobody else uses for each data set',
      ],
    ] as const
  ).map(([what, ours, theirs]) => ({ what, ours, theirs, problem: null }));

export const serverEnds = (settings: ServerSettings): TwoEnds[] =>
  (
    [
      [
        'Selectors',
        selectors(settings.transportSelector, settings.sessionSelector, settings.presentationSelector),
        'calls these',
      ],
      [
        'Password',
        settings.password === '' ? 'none is asked for' : 'is asked for',
        settings.password === '' ? 'none' : 'gives the same',
      ],
      ['Clients', `at most ${settings.maxClients} at once`, 'one connection each'],
      ['Reports', `${settings.maxClients} of each data set, 01 and on`, 'takes one that is free'],
    ] as const
  ).map(([what, ours, theirs]) => ({ what, ours, theirs, problem: null }));
