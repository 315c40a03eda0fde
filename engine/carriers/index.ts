import type { PublishingRole, At } from '@halvix/core/protocols';
import type { Carrier } from './carrier.ts';
import { FileCarrier } from './file.ts';

/** What the carriers need of this machine. */
export interface CarrierPlaces {
  /** Below which files are written that go out. */
  folder: string;
}

type Name = NonNullable<PublishingRole<unknown, At>['carried']>['carrier'];

/** The carriers that there are. */
const CARRIERS: Record<Name, (destination: string, places: CarrierPlaces) => Carrier> = {
  file: (destination, { folder }) => new FileCarrier(folder, destination),
};

export const makeCarrier = (name: Name, destination: string, places: CarrierPlaces): Carrier =>
  CARRIERS[name](destination, places);
export type { Carrier } from './carrier.ts';
