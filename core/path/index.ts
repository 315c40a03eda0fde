export {
  CENTRE_SILENT_MS,
  ENGINE_STALE_MS,
  HOP_SCHEMAS,
  outboundDetails,
  type HopKind,
  type DeviceState,
  type EngineState,
  type LinkState,
  type DetailState,
  type LaneState,
  type OutboundState,
} from './state.ts';
export { trailSchema, type Trail } from './trail.ts';
export { personalRequestSchema, requestSchema, CHANNELS, type EngineRequest } from './request.ts';
export {
  ORDER_MODES,
  COMMAND_STATES,
  COMMAND_OPEN,
  commandOrderSchema,
  type CommandOrder,
  type CommandState,
} from './command.ts';
export { fileEntriesSchema, fileOrderSchema, type FileOrderRequest } from './file.ts';
export {
  NO_PROBE_RESULT,
  PROBE_STATES,
  probeRequestSchema,
  probeResultSchema,
  type ProbeRequest,
  type ProbeResult,
  type ProbeState,
  type ProbeStep,
} from './probe.ts';
