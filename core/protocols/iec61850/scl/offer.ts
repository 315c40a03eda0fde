import type { OfferFile } from '../../definition.ts';
import type { IecTargetAt } from '../points.ts';
import type { ServerSettings } from '../settings.ts';
import { offeredObjects, reportsOf } from '../server/made.ts';
import { sclOf } from './write.ts';

type Offer = Parameters<OfferFile<ServerSettings, IecTargetAt>['make']>[0];

/** The model of an outbound of ours, configured, as a file of the substation configuration language. */
export function offerFile({ code, centre, host, port, settings, points }: Offer): string {
  const { objects, members } = offeredObjects(points, settings);
  return sclOf({
    // A name has no hyphens.
    ied: `HALVIX_${code.replace(/[^A-Za-z0-9_]/g, '_')}`,
    description: `for ${centre}`,
    objects,
    ...reportsOf(members, settings),
    address: {
      ...{ ip: host, port },
      selectors: {
        transport: settings.transportSelector,
        session: settings.sessionSelector,
        presentation: settings.presentationSelector,
      },
    },
  });
}
