import { spokenSide } from '../publishing/spoken.ts';
import { messages } from './payload.ts';
import type { PublisherSettings } from './settings.ts';
import { BrokerSpeaker } from './speaker.ts';
import { address, type BrokerTargetAt } from './target.ts';

export const publisher = spokenSide<PublisherSettings, BrokerTargetAt>(
  address.print,
  {
    terms: (settings) => settings,
    messages,
    form: () => 'JSON',
  },
  (settings) => new BrokerSpeaker(settings),
);
