import type { OfferFile } from '../../definition.ts';
import type { IecTargetAt } from '../points.ts';
import type { ServerSettings } from '../settings.ts';
import { offeredObjects, reportsOf } from '../server/made.ts';
import { withAddress } from './edit.ts';
import { servedModel } from './served.ts';
import { sclOf, USUAL_PORT } from './write.ts';

type Offer = Parameters<OfferFile<ServerSettings, IecTargetAt>['make']>[0];

/**
 * The model of an outbound of ours as a file of the substation configuration language: configured with its address (CID),
 * or what it can do, without one (ICD). A model that came from a file goes back as it came, but for its address.
 */
export function offerFile({ code, centre, host, port, settings, points }: Offer, isConfigured: boolean): string {
  const selectors = {
    transport: settings.transportSelector,
    session: settings.sessionSelector,
    presentation: settings.presentationSelector,
  };
  const served = servedModel(settings);
  if (served?.ok && settings.modelFile !== null) {
    const { ied } = served.value.given;
    const serving = ied.accessPoints.find(({ devices }) => devices.length > 0);
    if (!isConfigured || serving === undefined) return settings.modelFile.text;
    return withAddress(settings.modelFile.text, {
      ...{ ied: ied.name, accessPoint: serving.name },
      parameters: new Map([
        ['IP', host],
        // The usual one goes without saying, unless the file says another.
        ['MMS-Port', port === USUAL_PORT && !settings.modelFile.text.includes('"MMS-Port"') ? '' : String(port)],
        ['OSI-TSEL', selectors.transport],
        ['OSI-SSEL', selectors.session],
        ['OSI-PSEL', selectors.presentation],
      ]),
    });
  }
  const { objects, members } = offeredObjects(points, settings);
  return sclOf({
    // A name has no hyphens; of what is not configured it is a template.
    ied: isConfigured ? `HALVIX_${code.replace(/[^A-Za-z0-9_]/g, '_')}` : 'TEMPLATE',
    description: isConfigured ? `for ${centre}` : 'gateway',
    objects,
    ...reportsOf(members, settings),
    address: isConfigured ? { ip: host, port, selectors } : null,
  });
}
