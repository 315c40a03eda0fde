export {
  configurationSchema,
  EMPTY_CONFIGURATION,
  type Configuration,
  type StationConfig,
  type LinkConfig,
  type DeviceConfig,
  type PointConfig,
  type OutboundConfig,
  type MappingConfig,
} from './document.ts';
export { checkConfiguration, readConfiguration, type ConfigurationProblem } from './check.ts';
