export { deviceFrom, placementSchema, profileOf, profileSchema, type Placement, type Profile } from './profile.ts';
export { GENERIC_PROFILES } from './generic.ts';
